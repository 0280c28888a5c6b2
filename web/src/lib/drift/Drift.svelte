<script lang="ts">
  import { Button, Select } from 'flowbite-svelte';
  import { api, ask } from '../api/client';
  import { link, router } from '../router.svelte';
  import { count } from '../words';
  import Await from '../ui/Await.svelte';
  import Because from '../ui/Because.svelte';
  import Cell from '../ui/Cell.svelte';
  import Change from '../ui/Change.svelte';
  import Grid from '../ui/Grid.svelte';
  import Pager from '../ui/Pager.svelte';
  import Row from '../ui/Row.svelte';
  import State from '../ui/State.svelte';
  import Who from '../ui/Who.svelte';

  const size = 50;
  let from = $state(0);
  let target = $state(router.query.get('target') ?? '');
  let kind = $state(router.query.get('kind') ?? '');
  let user = $state(router.query.get('user') ?? '');
  let drafting = $state(false);
  const choice = $derived({ target: target ? [target] : [], kind: kind ? [kind] : [], user: user ? [user] : [] });
  const findings = $derived(ask(api.GET('/api/findings', { params: { query: { ...choice, from, size } } })));
  const targets = ask(api.GET('/api/targets', { params: { query: { size: 1000 } } }));
  $effect(() => router.keep({ target, kind, user }));

  async function draft(because: string) {
    const r = await ask(api.POST('/api/rounds', { body: { targets: choice.target, kinds: choice.kind, users: choice.user, because } }));
    if (!r.id) throw new Error('Nothing to draft: these are for a person to decide.');
    router.go(`/rounds/${r.id}`);
  }
  const kinds = [{ value: '', name: 'every kind' }, ...['missing', 'unexpected', 'different', 'unmatched'].map((k) => ({ value: k, name: k }))];
</script>

<Await ask={findings}>
  {#snippet children(p)}
    <h1>{#if p.total}<span class="needs">{count(p.total, 'finding', 'findings')}</span>{target ? ' on ' + target : ''}{kind ? ', ' + kind : ''}{user ? ' of ' + user : ''}.{:else if target || kind || user}Nothing differs there.{:else}Everything is as declared.{/if}</h1>
    <p class="sub">What the last surveys found to differ from the declaration. Nothing is changed on any target until a round is approved and run.</p>
    <div class="mb-5 flex flex-wrap items-center gap-4">
      {#if p.total}<Button class="bg-ink text-paper rounded" onclick={() => (drafting = true)}>Draft a round from {target || kind || user ? 'these' : 'all'}</Button>{/if}
      <Await ask={targets}>
        {#snippet children(list)}
          <Select size="sm" class="w-44" aria-label="Target" bind:value={target} onchange={() => (from = 0)} placeholder="" items={[{ value: '', name: 'every target' }, ...list.items.map((t) => ({ value: t.name, name: `${t.name} (${t.total})` }))]} />
        {/snippet}
      </Await>
      <Select size="sm" class="w-36" aria-label="Kind" bind:value={kind} onchange={() => (from = 0)} placeholder="" items={kinds} />
      {#if user}<button class="cursor-pointer underline" onclick={() => (user = '')}>of everybody</button>{/if}
    </div>
    {#if p.items.length}
      <Grid label="Findings" head={['Target', 'Kind', 'Who', 'What would be done', 'To', 'Before → after', 'Because']}>
        {#each p.items as f, i (i)}
          <Row>
            <Cell name><a use:link href="/targets/{encodeURIComponent(f.target)}" class="no-underline hover:underline">{f.target}</a></Cell>
            <Cell><State word={f.kind} /></Cell>
            <Cell><Who id={f.user} name={f['user-name']} /></Cell>
            <Cell>{f.what}</Cell>
            <Cell name>{f.subject}</Cell>
            <Cell wide><Change before={f.before} after={f.after} />{#if f.note}<br /><span class="text-soft text-sm">{f.note}</span>{/if}</Cell>
            <Cell>{f.because}</Cell>
          </Row>
        {/each}
      </Grid>
    {/if}
    <Pager {from} {size} total={p.total} go={(n) => (from = n)} />
  {/snippet}
</Await>
<Because bind:open={drafting} title="Draft a round" verb="Draft" act={draft} />
