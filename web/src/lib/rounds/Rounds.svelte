<script lang="ts">
  import { api, ask } from '../api/client';
  import { link } from '../router.svelte';
  import { count, tally, when } from '../words';
  import Await from '../ui/Await.svelte';
  import Cell from '../ui/Cell.svelte';
  import Grid from '../ui/Grid.svelte';
  import Pager from '../ui/Pager.svelte';
  import Row from '../ui/Row.svelte';
  import State from '../ui/State.svelte';

  const size = 50;
  let from = $state(0);
  const rounds = $derived(ask(api.GET('/api/rounds', { params: { query: { from, size } } })));
</script>

<Await ask={rounds}>
  {#snippet children(p)}
    {@const open = p.items.filter((r) => ['draft', 'held'].includes(r.state) || (r.state === 'approved' && !r.scheduled)).length}
    <h1>
      {#if open}<span class="needs">{count(open, 'round waits', 'rounds wait')}</span> for somebody.{:else if p.total}{count(
          p.total,
          'round',
          'rounds',
        )}, none waiting.{:else}No rounds yet.{/if}
    </h1>
    <p class="sub">
      A round is a set of changes, reviewed, run and read back as one. Draft one from <a use:link href="/drift">drift</a>, or ask for
      <a use:link href="/rounds/bulk">changes in bulk</a>.
    </p>
    {#if p.total}
      <Grid
        label="Rounds"
        head={[{ figure: 'Round' }, 'State', { figure: 'Steps' }, { figure: 'People' }, 'Outcome', 'Drafted', 'Because']}>
        {#each p.items as r (r.id)}
          <Row>
            <Cell figure><a use:link href="/rounds/{r.id}">{r.id}</a></Cell>
            <Cell><State word={r.state} /></Cell>
            <Cell figure>{r.steps}</Cell>
            <Cell figure>{r.people || ''}</Cell>
            <Cell>{tally(r.outcomes)}</Cell>
            <Cell>{when(r['drafted-at'])} by {r['drafted-by']}</Cell>
            <Cell wide><q>{r.because}</q></Cell>
          </Row>
        {/each}
      </Grid>
    {/if}
    <Pager {from} {size} total={p.total} go={(n) => (from = n)} />
  {/snippet}
</Await>
