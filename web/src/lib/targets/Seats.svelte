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
  import SeatBars from './SeatBars.svelte';
  import SharedPools from './SharedPools.svelte';
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
</script>

<h2>Licences</h2>
<Await ask={list}>
  {#snippet children(s)}
    <SeatBars
      list={s.pools.map((p) => ({ name: p.licence, seats: p.seats ?? 0, taken: p.taken, beside: p.beside }))}
      words={s.pools.map(words).join('. ')} />
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
  <h2 class="mt-6">Who has a seat of {licence}</h2>
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
<SharedPools {target} />
