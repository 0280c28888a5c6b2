<!-- Findings per day, as a row of bars with the figures behind them. -->
<script lang="ts">
  import { api, ask } from '../api/client';
  import { afresh, count } from '../words';
  import Await from '../ui/Await.svelte';
  let { target, mark }: { target: string; mark: unknown } = $props();
  const days = $derived(
    afresh(mark, () => ask(api.GET('/api/trend', { params: { query: { days: 30, target: target ? [target] : [] } } }))),
  );
</script>

<Await ask={days}>
  {#snippet children(list)}
    {@const most = Math.max(1, ...list.map((d) => d.total))}
    {#if list.length}
      <figure class="m-0 mb-5">
        <svg
          viewBox="0 0 {Math.max(12, list.length) * 12} 46"
          class="h-12"
          role="img"
          aria-label="Findings per day: {list.map((d) => `${d.day} ${d.total}`).join(', ')}">
          {#each list as d, i (d.day)}
            <rect
              x={i * 12}
              y={44 - Math.max(d.total ? 2 : 0, (40 * d.total) / most)}
              width="9"
              height={Math.max(d.total ? 2 : 0, (40 * d.total) / most)}
              class="fill-barn"><title>{d.day}: {d.total}</title></rect>
          {/each}
          <line x1="0" x2={Math.max(12, list.length) * 12} y1="45" y2="45" class="stroke-rule" />
        </svg>
        <figcaption class="text-soft text-sm">
          {list[0].day === list.at(-1)!.day
            ? `${list[0].day}: ${count(list[0].total, 'finding', 'findings')}`
            : `${list[0].day} to ${list.at(-1)!.day}, at most ${count(most, 'finding', 'findings')} a day`}
        </figcaption>
      </figure>
    {/if}
  {/snippet}
</Await>
