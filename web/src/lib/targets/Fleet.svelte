<script lang="ts">
  // Targets that share a tag, beside each other, with what is odd about one among its like.
  import { api, ask } from '../api/client';
  import { link, router } from '../router.svelte';
  import { when } from '../words';
  import Await from '../ui/Await.svelte';
  import Cell from '../ui/Cell.svelte';
  import Grid from '../ui/Grid.svelte';
  import Row from '../ui/Row.svelte';
  import State from '../ui/State.svelte';

  let tag = $state(router.query.get('tag') ?? '');
  let only = $state(false);
  let chosen = $state<string[]>([]);
  const fleet = $derived(ask(api.GET('/api/fleet', { params: { query: { tag } } })));
</script>

<Await ask={fleet}>
  {#snippet children(f)}
    <h1>{f.sentence}</h1>
    <p class="sub">Odd is what most of its like have otherwise: the system, an account, a superuser. As they were last seen.</p>
    <p class="mb-4 flex flex-wrap items-baseline gap-x-5 gap-y-1 text-sm">
      {#each ['', ...f.tags] as t (t)}
        <button
          class="cursor-pointer {tag === t ? 'border-barn border-b-2 font-medium' : 'text-soft hover:underline'}"
          aria-pressed={tag === t}
          onclick={() => {
            tag = t;
            chosen = [];
            router.keep({ tag });
          }}>{t ? t.replace('=', ': ') : 'all'}</button>
      {/each}
      <label class="text-soft"><input type="checkbox" bind:checked={only} class="mr-1" />only the odd</label>
      {#if chosen.length === 2}<a use:link href="/compare?one={chosen[0]}&other={chosen[1]}">Compare {chosen[0]} with {chosen[1]}</a
        >{:else}<span class="text-soft">Choose two to compare them.</span>{/if}
    </p>
    <Grid
      label="Fleet"
      head={[
        '',
        'Target',
        'State',
        'System',
        { figure: 'Accounts' },
        { figure: 'Superusers' },
        { figure: 'Findings' },
        'Odd among its like',
        'Surveyed',
      ]}>
      {#each f.items.filter((t) => t.odd.length || !only) as t (t.name)}
        <Row>
          <Cell
            ><input
              type="checkbox"
              aria-label="Choose {t.name}"
              value={t.name}
              bind:group={chosen}
              disabled={chosen.length > 1 && !chosen.includes(t.name)} /></Cell>
          <Cell name><a use:link href="/targets/{encodeURIComponent(t.name)}" class="no-underline hover:underline">{t.name}</a></Cell>
          <Cell><State word={t.state} /></Cell>
          <Cell wide>{t.system ?? ''}</Cell>
          <Cell figure>{t.accounts || ''}</Cell>
          <Cell figure>{t.superusers || ''}</Cell>
          <Cell figure>{t.findings || ''}</Cell>
          <Cell wide
            >{#each t.odd as words (words)}<span class="text-barn block">{words}</span>{/each}</Cell>
          <Cell>{when(t['surveyed-at'])}</Cell>
        </Row>
      {/each}
    </Grid>
  {/snippet}
</Await>
