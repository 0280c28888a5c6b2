<script lang="ts">
  import Choice from '../ui/Choice.svelte';
  // Two targets that should be alike, and in what they are not.
  import { api, ask, type Schemas } from '../api/client';
  import { link, router } from '../router.svelte';
  import { count, when } from '../words';
  import Await from '../ui/Await.svelte';
  import Cell from '../ui/Cell.svelte';
  import Grid from '../ui/Grid.svelte';
  import Row from '../ui/Row.svelte';
  import Who from '../ui/Who.svelte';

  let one = $state(router.query.get('one') ?? '');
  let other = $state(router.query.get('other') ?? '');
  const names = ask(api.GET('/api/targets', { params: { query: { size: 1000 } } }));
  const twins = $derived(one && other ? ask(api.GET('/api/compare', { params: { query: { one, other } } })) : Promise.resolve(undefined));
  const side = (x: Schemas['Contrast'], values: string[]) =>
    !x.attribute && !values.length ? '–' : values.slice(0, 6).join(', ') + (values.length > 6 ? ` and ${values.length - 6} more` : '');
  const keep = () => router.keep({ one, other });
</script>

<Await ask={twins}>
  {#snippet children(t)}
    {#if t}
      <h1>{t.sentence}</h1>
      <p class="sub">
        {count(t.alike, 'account or set is', 'accounts and sets are')} the same on both. As seen {when(t['one-at'])} and {when(
          t['other-at'],
        )}.
      </p>
    {:else}
      <h1>Compare two targets.</h1>
      <p class="sub">People, groups, elevation, policy, and what they tell of themselves, as they were last seen.</p>
    {/if}
  {/snippet}
</Await>
<Await ask={names}>
  {#snippet children(list)}
    <p class="mb-4 flex flex-wrap items-baseline gap-4 text-sm">
      <label class="text-soft"
        >one <Choice bind:value={one} onchange={keep}>
          {#each list.items as t (t.name)}<option value={t.name}>{t.name}</option>{/each}
        </Choice></label>
      <label class="text-soft"
        >the other <Choice bind:value={other} onchange={keep}>
          {#each list.items as t (t.name)}<option value={t.name}>{t.name}</option>{/each}
        </Choice></label>
      <a use:link href="/fleet">Fleets by tag</a>
    </p>
  {/snippet}
</Await>
<Await ask={twins}>
  {#snippet children(t)}
    {#if t?.items.length}
      <Grid label="Differences" head={['Kind', 'Name', 'Whose', 'What', t.one, t.other]}>
        {#each t.items as x, i (i)}
          <Row>
            <Cell>{x.kind}</Cell>
            <Cell name>{x.name}</Cell>
            <Cell><Who id={x.user} name={x['user-name']} /></Cell>
            <Cell>{x.called ?? ''}</Cell>
            <Cell wide>{side(x, x.one)}</Cell>
            <Cell wide>{side(x, x.other)}</Cell>
          </Row>
        {/each}
      </Grid>
    {/if}
  {/snippet}
</Await>
