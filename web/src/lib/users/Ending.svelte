<!-- Roles and people whose last day is near. -->
<script lang="ts">
  import { Button, Input, Label } from 'flowbite-svelte';
  import { api, ask, type Schemas } from '../api/client';
  import { link, router } from '../router.svelte';
  import { afresh, count } from '../words';
  import Await from '../ui/Await.svelte';
  import Because from '../ui/Because.svelte';
  import Cell from '../ui/Cell.svelte';
  import Grid from '../ui/Grid.svelte';
  import Pager from '../ui/Pager.svelte';
  import Row from '../ui/Row.svelte';
  import Who from '../ui/Who.svelte';

  const size = 50;
  const id = $props.id();
  const within = $derived(Number(router.query.get('within') ?? 14));
  let from = $state(0);
  let mark = $state(0);
  const found = $derived(afresh(mark, () => ask(api.GET('/api/ending', { params: { query: { within, from, size } } }))));
  let extending = $state(false);
  let one = $state.raw<Schemas['Ending']>();
  let until = $state('');

  function begin(e: Schemas['Ending']) {
    one = e;
    until = '';
    extending = true;
  }
  async function extend(because: string) {
    await ask(api.POST('/api/users/{id}/extend', { params: { path: { id: one!.user } }, body: { role: one!.role, until, because } }));
    mark++;
  }
</script>

<Await ask={found}>
  {#snippet children(f)}
    <h1>
      {#if f.total}<span class="needs">{count(f.total, 'thing ends', 'things end')}</span> within {count(
          within,
          'day',
          'days',
        )}.{:else}Nothing ends within {count(within, 'day', 'days')}.{/if}
    </h1>
    <p class="sub">
      Look ahead {#each [14, 30, 90, 365] as n, i (n)}{i ? ', ' : ''}{#if n === within}{n}{:else}<a use:link href="/ending?within={n}"
            >{n}</a
          >{/if}{/each} days.
    </p>
    {#if f.items.length}
      <Grid label="What ends" head={['Until', 'In', 'Who', 'What ends', 'Given because', 'Declared at', '']}>
        {#each f.items as e, i (i)}
          <Row>
            <Cell>{e.until}</Cell>
            <Cell>{e.days ? count(e.days, 'day', 'days') : 'today'}</Cell>
            <Cell><Who id={e.user} name={e.name} /></Cell>
            <Cell
              >{#if e.role}role <span class="name">{e.role}</span>{:else if e.target}the password of <span class="name">{e.account}</span>
                on {e.target}{:else if e.credential}a {e.credential}{:else}everything{/if}</Cell>
            <Cell wide>{e.because ?? ''}</Cell>
            <Cell name>{e.at}</Cell>
            <Cell
              >{#if !e.credential}<Button size="xs" class="bg-ink text-paper rounded" onclick={() => begin(e)}>Extend</Button>{/if}</Cell>
          </Row>
        {/each}
      </Grid>
      <Pager {from} {size} total={f.total} go={(n) => (from = n)} />
    {/if}
  {/snippet}
</Await>
<Because
  bind:open={extending}
  title={one?.role ? `Let ${one.name} hold ${one.role} for longer` : `Let ${one?.name} stay for longer`}
  verb="Extend"
  act={extend}>
  {#snippet more()}
    <Label for={id}>New last day</Label>
    <Input {id} type="date" bind:value={until} min={one?.until} required />
  {/snippet}
</Because>
