<script lang="ts">
  // The pools of seats that a target shares with others, and who sits there.
  import { api, ask, type Schemas } from '../api/client';
  import { count } from '../words';
  import Await from '../ui/Await.svelte';
  import Cell from '../ui/Cell.svelte';
  import Grid from '../ui/Grid.svelte';
  import Pager from '../ui/Pager.svelte';
  import Row from '../ui/Row.svelte';
  import Who from '../ui/Who.svelte';
  import SeatBars from './SeatBars.svelte';

  let { target }: { target: string } = $props();
  const list = $derived(ask(api.GET('/api/pools', { params: { query: { target } } })));
  const size = 25;
  let pool = $state('');
  let from = $state(0);
  const sitting = $derived(pool ? ask(api.GET('/api/pools/{name}', { params: { path: { name: pool }, query: { from, size } } })) : null);
  const words = (p: Schemas['SharedPool']) =>
    `${p.name}: ${p.taken} of ${count(p.seats, 'seat', 'seats')} taken` +
    (p.beside ? `, ${p.beside} of them by whom nobody gives one` : '') +
    (p.missing ? `; ${p.missing} more wanted` : '') +
    (p.short ? `; ${p.short} too few` : '');
  const licences = (p: Schemas['SharedPool']) => p.at.map((l) => `${l.licence} on ${l.target} (${l.taken})`).join(', ');
</script>

<Await ask={list}>
  {#snippet children(pools)}
    {#if pools.length}
      <h2 class="mt-8">Seats shared with other targets</h2>
      <p class="sub">Whoever has one of the licences, or several, takes one seat.</p>
      <SeatBars list={pools} words={pools.map(words).join('. ')} />
      <Grid
        label="Shared pools"
        head={[
          'Pool',
          ...['Seats', 'Taken', 'Spare', 'Declared', 'Missing', 'Beside', 'Too few'].map((figure) => ({ figure })),
          'Licences',
        ]}>
        {#each pools as p (p.name)}
          <Row>
            <Cell name
              ><button
                class="underline"
                aria-expanded={pool === p.name}
                onclick={() => ((pool = pool === p.name ? '' : p.name), (from = 0))}>{p.name}</button
              ></Cell>
            <Cell figure>{p.seats}</Cell>
            <Cell figure>{p.taken}</Cell>
            <Cell figure>{p.seats - p.taken}</Cell>
            <Cell figure>{p.wanted || ''}</Cell>
            <Cell figure>{p.missing || ''}</Cell>
            <Cell figure>{p.beside || ''}</Cell>
            <Cell figure
              >{#if p.short}<span class="text-barn">{p.short}</span>{/if}</Cell>
            <Cell wide
              >{licences(p)}{#if p.about}<br /><span class="text-soft text-sm">{p.about}</span>{/if}</Cell>
          </Row>
        {/each}
      </Grid>
    {/if}
  {/snippet}
</Await>
{#if sitting}
  <h2 class="mt-6">Who has a seat of {pool}</h2>
  <Await ask={sitting}>
    {#snippet children(s)}
      <p class="sub">First those who could give theirs up.</p>
      <Grid label="Who has a shared seat" head={['Who', 'Declared', 'Last sign-in', 'Accounts']}>
        {#each s.sitters as x (x.accounts[0])}
          <Row>
            <Cell><Who id={x.user} name={x['user-name']} /></Cell>
            <Cell>{x.asked ? 'yes' : ''}</Cell>
            <Cell>{x['last-sign-in'] ?? ''}</Cell>
            <Cell wide>{x.accounts.join(', ')}</Cell>
          </Row>
        {/each}
      </Grid>
      <Pager {from} {size} total={s.total} go={(n) => (from = n)} />
    {/snippet}
  </Await>
{/if}
