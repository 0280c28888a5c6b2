<script lang="ts">
  // What stands in the record of somebody or something, the newest first.
  import { api, ask } from '../api/client';
  import { afresh } from '../words';
  import Await from './Await.svelte';

  let { user, target, mark = 0 }: { user?: string; target?: string; mark?: number } = $props();
  const happened = $derived(afresh(mark, () => ask(api.GET('/api/record', { params: { query: { user, target, size: 12 } } }))));
</script>

<h2 class="mt-8">What happened</h2>
<Await ask={happened}>
  {#snippet children(p)}
    {#each p.items as e (e.seq)}
      <p class="border-rule m-0 border-b py-1.5 wrap-anywhere">
        <time class="text-soft mr-3 text-[13px]" datetime={e.at}>{e.at.slice(0, 16).replace('T', ' ')}</time>
        {#if user}<span class="name">{e.target}</span>{/if}
        {e.words}
        {#if e.because}<q>{e.because}</q>{/if}
      </p>
    {:else}
      <p class="text-soft">Nothing yet.</p>
    {/each}
  {/snippet}
</Await>
