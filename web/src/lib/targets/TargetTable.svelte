<script lang="ts">
  import type { Schemas } from '../api/client';
  import { link } from '../router.svelte';
  import { when } from '../words';
  import Cell from '../ui/Cell.svelte';
  import Grid from '../ui/Grid.svelte';
  import Row from '../ui/Row.svelte';
  import State from '../ui/State.svelte';
  let { targets }: { targets: Schemas['Target'][] } = $props();
  const steps = ['missing', 'unexpected', 'different', 'unmatched'];
  const toKnow = (t: Schemas['Target']) => Object.entries(t.findings).reduce((n, [kind, k]) => n + (steps.includes(kind) ? 0 : k), 0);
</script>

<Grid
  label="Targets"
  head={[
    'Target',
    'State',
    { figure: 'Accounts' },
    { figure: 'Missing' },
    { figure: 'Unexpected' },
    { figure: 'Different' },
    { figure: 'Unmatched' },
    { figure: 'To know' },
    'Surveyed',
  ]}>
  {#each targets as t (t.name)}
    <Row>
      <Cell name><a use:link href="/targets/{encodeURIComponent(t.name)}" class="no-underline hover:underline">{t.name}</a></Cell>
      <Cell>
        {#if t.state !== 'surveyed'}<State word={t.state} />{:else if t.total}<State
            word={t.total === 1 ? 'finding' : 'findings'}
            more={String(t.total)} />{:else}<State word="as declared" />{/if}
      </Cell>
      <Cell figure>{t.accounts || ''}</Cell>
      {#each steps as kind (kind)}
        <Cell figure>{t.findings[kind] || ''}</Cell>
      {/each}
      <Cell figure>{toKnow(t) || ''}</Cell>
      <Cell>{when(t['surveyed-at'])}</Cell>
    </Row>
  {/each}
</Grid>
