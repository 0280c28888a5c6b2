<script lang="ts">
  import Act from '../ui/Act.svelte';
  import Choice from '../ui/Choice.svelte';
  import Field from '../ui/Field.svelte';
  // What people left on a target: asked of it when somebody wants to know, since every file is looked at.
  import { Button } from 'flowbite-svelte';
  import { api, ask, type Schemas } from '../api/client';
  import { router } from '../router.svelte';
  import { afresh, bytes, count, when } from '../words';
  import Await from '../ui/Await.svelte';
  import Because from '../ui/Because.svelte';
  import Cell from '../ui/Cell.svelte';
  import Grid from '../ui/Grid.svelte';
  import Row from '../ui/Row.svelte';
  import State from '../ui/State.svelte';
  import Who from '../ui/Who.svelte';

  let { target }: { target: string } = $props();
  let found = $state<Schemas['HomesSeen']>();
  let stale = $state(0);
  let how = $state<'archive' | 'seal' | 'remove'>('archive');
  let only = $state(true);
  let busy = $state(false);
  let said = $state('');
  let drafting = $state(false);
  const shown = $derived((found?.items ?? []).filter((h) => h.stale || !only));

  async function look() {
    busy = true;
    said = '';
    try {
      found = await ask(api.GET('/api/homes', { params: { query: { target: [target], stale: Number(stale) || 0 } } }));
    } catch (e) {
      said = (e as Error).message;
    } finally {
      busy = false;
    }
  }
  let again = $state(0);
  const archives = $derived(afresh(again, () => ask(api.GET('/api/archives', { params: { query: { target, size: 20 } } }))));
  let returning = $state(0);
  let asked = $state(false);
  async function bring(because: string) {
    const out = await ask(api.POST('/api/archives/{id}/return', { params: { path: { id: returning } }, body: { because } }));
    said = `Returned: ${out.said}.`;
    again++;
  }
  async function draft(because: string) {
    const out = await ask(api.POST('/api/homes/draft', { body: { targets: [target], stale: Number(stale) || 0, how, because } }));
    if (out.round.id) router.go(`/rounds/${out.round.id}`);
    else said = 'No home may go any more.';
  }
</script>

<h2>Homes</h2>
<p class="mb-3 flex flex-wrap items-baseline gap-4 text-sm">
  <Button size="xs" class="bg-ink text-paper rounded" disabled={busy} onclick={look}>{busy ? 'Looking…' : 'Look'}</Button>
  <label class="text-soft"
    >not used for <Field type="number" min="0" max="36500" bind:value={stale} class="w-20" /> days (0: as declared, or 90)</label>
  <label class="text-soft"><input type="checkbox" bind:checked={only} class="mr-1" />only those that may go</label>
  <span role="status">{said}</span>
</p>
{#if found}
  {#each Object.entries(found.not) as [at, why] (at)}<p class="text-barn mb-2">
      <span class="name">{at}</span> could not be asked: {why}
    </p>{/each}
  <p class="mb-2">
    {count(found.items.length, 'home', 'homes')}; {found.stale} may go and take up {bytes(found.bytes)}.
  </p>
  {#if shown.length}
    <Grid label="Homes" head={['Home', 'Whose', { figure: 'Size' }, 'Last use', 'May go', 'Why not']}>
      {#each shown as h (h.folder)}
        <Row>
          <Cell name>{h.folder}</Cell>
          <Cell
            >{#if h.user}<Who id={h.user} name={h['user-name']} />{:else if h.account}<span class="name">{h.account}</span>{:else}<span
                class="text-soft">nobody, number {h.number}</span
              >{/if}</Cell>
          <Cell figure>{bytes(h.bytes)}</Cell>
          <Cell>{h['last-use'] ?? 'not known'}</Cell>
          <Cell
            >{#if h.stale}<State word="stale" />{/if}</Cell>
          <Cell wide>{h.words ?? ''}</Cell>
        </Row>
      {/each}
    </Grid>
  {/if}
  {#if found.stale}
    <p class="mt-3 flex flex-wrap items-baseline gap-4">
      <Button size="xs" class="bg-ink text-paper rounded" onclick={() => (drafting = true)}
        >Draft a round that clears {count(found.stale, 'home', 'homes')}</Button>
      <label class="text-soft text-sm"
        >each is <Choice bind:value={how}>
          <option value="archive">kept in an archive there</option><option value="seal">fetched and sealed here</option><option
            value="remove">gone for good</option>
        </Choice></label>
    </p>
    <Because bind:open={drafting} title="Draft a round that clears homes" verb="Draft" act={draft} />
  {/if}
{/if}
<Await ask={archives}>
  {#snippet children(a)}
    {#if a.items.length}
      <h3 class="mt-4 mb-1 font-medium">Homes that Hen Roost keeps sealed</h3>
      <Grid label="Sealed homes" head={['Account', 'Whose', { figure: 'Size' }, 'State', 'Removed', 'Until', '']}>
        {#each a.items as x (x.id)}
          <Row>
            <Cell name>{x.account || `number ${x.number}`}</Cell>
            <Cell><Who id={x.user} name={x['user-name']} /></Cell>
            <Cell figure>{bytes(x.bytes)}</Cell>
            <Cell><State word={x.state} /> {x.words ?? ''}</Cell>
            <Cell>{when(x.at)}</Cell>
            <Cell>{x.until?.slice(0, 10) ?? ''}</Cell>
            <Cell
              >{#if x.state === 'kept' || x.state === 'returned'}<Act onclick={() => ((returning = x.id), (asked = true))}>Return</Act
                >{/if}</Cell>
          </Row>
        {/each}
      </Grid>
    {/if}
  {/snippet}
</Await>
<Because bind:open={asked} title="Return the home to {target}" verb="Return" act={bring} />
