<script lang="ts">
  // The licences of a target: a bar for each pool of seats, and who sits there.
  import { api, ask } from '../api/client';
  import type { components } from '../api/schema.gen';
  import { count } from '../words';
  import Await from '../ui/Await.svelte';
  import Cell from '../ui/Cell.svelte';
  import Grid from '../ui/Grid.svelte';
  import Pager from '../ui/Pager.svelte';
  import Row from '../ui/Row.svelte';
  import Who from '../ui/Who.svelte';

  type Pool = components['schemas']['Pool'];
  let { target }: { target: string } = $props();
  const list = $derived(ask(api.GET('/api/targets/{name}/seats', { params: { path: { name: target } } })));
  const size = 25;
  let licence = $state('');
  let from = $state(0);
  const sitting = $derived(
    licence ? ask(api.GET('/api/targets/{name}/seats', { params: { path: { name: target }, query: { licence, from, size } } })) : null,
  );
  const words = (p: Pool) =>
    `${p.licence}: ${p.taken} of ${p.told ? count(p.seats ?? 0, 'seat', 'seats') : 'an unknown number of seats'} taken` +
    (p.beside ? `, ${p.beside} of them by accounts to which nobody gives one` : '') +
    (p.missing ? `; ${p.missing} more wanted` : '') +
    (p.short ? `; ${p.short} too few` : '');

  // A colour of ours as the plotting library can take it.
  function shade(name: string) {
    const probe = document.body.appendChild(document.createElement('span'));
    probe.style.color = `var(--${name})`;
    const colour = getComputedStyle(probe).color;
    probe.remove();
    return colour;
  }

  const parts = [
    { label: 'as declared', colour: 'teal', of: (p: Pool) => p.taken - p.beside },
    { label: 'beside', colour: 'ochre', of: (p: Pool) => p.beside },
    { label: 'spare', colour: 'rule', of: (p: Pool) => Math.max((p.seats ?? 0) - p.taken, 0) },
  ];

  // The plotting library is loaded only where something is drawn.
  function draw(canvas: HTMLCanvasElement, pools: Pool[]) {
    let gone = false;
    let chart: { destroy(): void } | undefined;
    import('chart.js').then(({ Chart, BarController, BarElement, CategoryScale, LinearScale, Tooltip }) => {
      if (gone) return;
      Chart.register(BarController, BarElement, CategoryScale, LinearScale, Tooltip);
      const ink = shade('ink');
      const font = { family: 'IBM Plex Sans', size: 13 };
      chart = new Chart(canvas, {
        type: 'bar',
        data: {
          labels: pools.map((p) => p.licence),
          datasets: parts.map((x) => ({
            label: x.label,
            data: pools.map(x.of),
            backgroundColor: shade(x.colour),
            barThickness: 16,
          })),
        },
        options: {
          indexAxis: 'y',
          animation: false,
          maintainAspectRatio: false,
          scales: {
            x: { stacked: true, grid: { display: false }, ticks: { color: ink, precision: 0, font } },
            y: { stacked: true, grid: { display: false }, ticks: { color: ink, font } },
          },
        },
      });
    });
    return {
      destroy() {
        gone = true;
        chart?.destroy();
      },
    };
  }
</script>

<h2>Licences</h2>
<Await ask={list}>
  {#snippet children(s)}
    <p class="text-soft mb-1 flex gap-4 text-sm">
      {#each parts as x (x.label)}<span
          ><span class="mr-1 inline-block size-3 align-[-1px]" style:background={`var(--${x.colour})`}></span>{x.label}</span
        >{/each}
    </p>
    <div class="relative max-w-3xl" role="img" aria-label={s.pools.map(words).join('. ')} style:height={`${s.pools.length * 34 + 34}px`}>
      <canvas use:draw={s.pools}></canvas>
    </div>
    <Grid
      label="Licences"
      head={['Licence', ...['Seats', 'Taken', 'Spare', 'Declared', 'Missing', 'Beside', 'Too few'].map((figure) => ({ figure }))]}>
      {#each s.pools as p (p.licence)}
        <Row>
          <Cell name
            ><button
              class="underline"
              aria-expanded={licence === p.licence}
              onclick={() => ((licence = licence === p.licence ? '' : p.licence), (from = 0))}>{p.licence}</button
            ></Cell>
          <Cell figure>{p.told ? p.seats : ''}</Cell>
          <Cell figure>{p.taken}</Cell>
          <Cell figure>{p.told ? (p.seats ?? 0) - p.taken : ''}</Cell>
          <Cell figure>{p.wanted || ''}</Cell>
          <Cell figure>{p.missing || ''}</Cell>
          <Cell figure>{p.beside || ''}</Cell>
          <Cell figure
            >{#if p.short}<span class="text-barn">{p.short}</span>{/if}</Cell>
        </Row>
      {/each}
    </Grid>
  {/snippet}
</Await>
{#if sitting}
  <h3>Who has a seat of {licence}</h3>
  <Await ask={sitting}>
    {#snippet children(s)}
      <p class="sub">First those who could give theirs up.</p>
      <Grid label="Who has a seat" head={['Account', 'Whose', 'Declared', 'Open', 'Last sign-in', 'Note']}>
        {#each s.sitters as x (x.account)}
          <Row>
            <Cell name>{x.account}</Cell>
            <Cell><Who id={x.user} name={x['user-name']} /></Cell>
            <Cell>{x.asked ? 'yes' : ''}</Cell>
            <Cell>{x.open ? 'open' : 'shut'}</Cell>
            <Cell>{x['last-sign-in'] ?? ''}</Cell>
            <Cell>{x.protected ?? ''}</Cell>
          </Row>
        {/each}
      </Grid>
      <Pager {from} {size} total={s.total} go={(n) => (from = n)} />
    {/snippet}
  </Await>
{/if}
