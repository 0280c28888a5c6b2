<!-- What a declaration changes for people, in sentences. -->
<script lang="ts">
  import type { Schemas } from '../api/client';
  import { count } from '../words';
  import Who from '../ui/Who.svelte';
  let { moves, people }: { moves: Schemas['Move'][]; people: number } = $props();
</script>

{#if people === 0}
  <p class="text-soft">For people nothing changes.</p>
{:else}
  <p class="mb-2">It changes something for {count(people, 'person', 'people')}.</p>
  <ul class="m-0 list-none p-0">
    {#each moves.slice(0, 30) as m (m.user)}
      <li class="border-rule border-b py-1.5 wrap-anywhere"><Who id={m.user} name={m.name} /> {m.say}</li>
    {/each}
  </ul>
  {#if people > 30}<p class="text-soft">… and {people - 30} more</p>{/if}
{/if}
