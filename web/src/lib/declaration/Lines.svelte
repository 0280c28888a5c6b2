<!-- Lines that two versions of the declaration do not share. -->
<script lang="ts">
  import type { Schemas } from '../api/client';
  let { lines }: { lines: Schemas['LineChange'][] } = $props();
</script>

{#each lines.slice(0, 20) as l (l.file + l.line)}
  <p class="name m-0 mt-1 text-sm">{l.file}, line {l.line}</p>
  {#each l.before as text, i (i)}<p class="name text-soft m-0 text-sm wrap-anywhere whitespace-pre-wrap">was {text}</p>{/each}
  {#each l.after as text, i (i)}<p class="name m-0 text-sm wrap-anywhere whitespace-pre-wrap">is {text}</p>{/each}
{/each}
{#if lines.length > 20}<p class="text-soft">… and {lines.length - 20} more places</p>{/if}
