<!-- One person: their accounts on every target, side by side. -->
<script lang="ts">
  import { Button } from 'flowbite-svelte';
  import { api, ask, type Schemas } from '../api/client';
  import { link, router } from '../router.svelte';
  import { afresh, count } from '../words';
  import Await from '../ui/Await.svelte';
  import Because from '../ui/Because.svelte';
  import Cell from '../ui/Cell.svelte';
  import Change from '../ui/Change.svelte';
  import Grid from '../ui/Grid.svelte';
  import Happened from '../ui/Happened.svelte';
  import Row from '../ui/Row.svelte';
  import State from '../ui/State.svelte';
  import { calling, kinds } from '../kinds';
  import History from '../targets/History.svelte';
  import Sessions from '../targets/Sessions.svelte';
  import Credentials from './Credentials.svelte';
  import Passing from './Passing.svelte';
  import Rename from './Rename.svelte';
  import Suspension from './Suspension.svelte';
  import TimeLine from './TimeLine.svelte';
  import Act from '../ui/Act.svelte';

  let { id }: { id: string } = $props();
  let mark = $state(0);
  const user = $derived(afresh(mark, () => ask(api.GET('/api/users/{id}', { params: { path: { id } } }))));
  let drafting = $state(false);
  let why = $state<{ target: string; account: string; what: string } | null>(null);
  const explanation = $derived(
    why && ask(api.GET('/api/explain', { params: { query: { user: id, target: why.target, account: why.account, what: why.what } } })),
  );

  async function draft(because: string) {
    const r = await ask(api.POST('/api/rounds', { body: { users: [id], because } }));
    router.go(r.id ? `/rounds/${r.id}` : '/drift?user=' + encodeURIComponent(id));
  }
  const attributes = (accounts: Schemas['Account'][]) => [...new Set(accounts.flatMap((a) => Object.keys(a.attributes ?? {})))].sort();
  const twice = (all: Schemas['Account'][], a: Schemas['Account']) => all.filter((b) => b.target === a.target).length > 1;
  let called = $state((attribute: string) => attribute);
  kinds().then((list) => (called = calling(list)));
  const sets = [
    ['groups', 'groups'],
    ['rights', 'rights'],
    ['licences', 'licences'],
    ['elevation', 'superuser for'],
  ] as const;
  const shown = (name: string, v?: string[]) =>
    !v?.length ? '' : name === 'keys' ? count(v.length, 'key', 'keys') : v.length > 3 ? count(v.length, 'value', 'values') : v.join(', ');
  const open = (f: Schemas['Finding']) => !f['accepted-until'];
  // Somebody may have several accounts on one target.
  const places = (list: { target: string }[]) => new Set(list.map((a) => a.target)).size;
</script>

{#snippet asks(a: Schemas['Account'], what: string, text: string)}
  {@const here = why?.target === a.target && why?.account === a.name && why?.what === what}
  {#if text}<button
      class="cursor-pointer text-left hover:underline {here ? 'border-barn border-b-2' : ''}"
      title="Why?"
      onclick={() => (why = { target: a.target, account: a.name, what })}><span dir="auto">{text}</span></button
    >{/if}
{/snippet}
<Await ask={user}>
  {#snippet children(u)}
    {@const drift = u.accounts.flatMap((a) => a.findings).filter(open)}
    {@const accepted = u.accounts.flatMap((a) => a.findings).filter((f) => !open(f))}
    <h1>
      <span dir="auto">{u.name}</span>
      {#if drift.length}has <span class="needs">{count(drift.length, 'finding', 'findings')}</span> on {count(
          places(u.accounts.filter((a) => a.findings.some(open))),
          'target',
          'targets',
        )}.{:else if u.accounts.some((a) => a.state === 'not surveyed')}<span class="needs">was not looked for</span> on {count(
          places(u.accounts.filter((a) => a.state === 'not surveyed')),
          'target',
          'targets',
        )} of {places(u.accounts)} yet.{:else if u.state === 'suspended'}is <span class="needs">suspended</span>, as declared, on {count(
          places(u.accounts),
          'target',
          'targets',
        )}.{:else if u.accounts.length}is as declared on {count(places(u.accounts), 'target', 'targets')}.{:else}has no account anywhere.{/if}
    </h1>
    <p class="sub">
      <span class="name">{u.id}</span>{#if u.formerly}, formerly <span class="name">{u.formerly.join(', ')}</span>{/if}{#if u.number},
        number {u.number}{/if}{#if u.mail}, {u.mail}{/if}{#if u.state === 'expected'}, starts on {u.from}{:else if u.suspended}, <span
          class="needs">suspended</span>
        {u.suspended}{:else if u.state === 'left'}, whose last day was {u.until}{:else if u.until}, until {u.until}{/if}. Roles: {u.roles.join(
        ', ',
      ) || 'none'}. Declared at
      <span class="name">{u.at}</span>.
    </p>
    {#if drift.some((f) => !f.decide)}<p class="mb-6">
        <Button class="bg-ink text-paper rounded" onclick={() => (drafting = true)}>Draft a round for {u.name}</Button>
      </p>{/if}
    <Suspension user={id} name={u.name} changed={() => mark++}>
      <Passing user={id} name={u.name} changed={() => mark++} />
      <Rename user={id} name={u.name} />
    </Suspension>
    {#if u.accounts.length}
      <h2>Side by side</h2>
      <Grid
        label="Accounts on every target"
        head={['', ...u.accounts.map((a) => (twice(u.accounts, a) ? `${a.target} ${a.name}` : a.target))]}>
        <Row
          ><Cell><span class="text-soft">account</span></Cell>{#each u.accounts as a (a.target + a.name)}<Cell name
              >{@render asks(a, 'account', a.name)}</Cell
            >{/each}</Row>
        <Row
          ><Cell><span class="text-soft">state</span></Cell>{#each u.accounts as a (a.target + a.name)}<Cell><State word={a.state} /></Cell
            >{/each}</Row>
        {#each attributes(u.accounts) as name (name)}
          <Row
            ><Cell><span class="text-soft">{called(name)}</span></Cell>{#each u.accounts as a (a.target + a.name)}<Cell name
                >{@render asks(a, name, shown(name, a.attributes?.[name]))}</Cell
              >{/each}</Row>
        {/each}
        {#each sets as [list, words] (list)}
          {#if list === 'groups' || u.accounts.some((a) => a[list]?.length)}
            <Row>
              <Cell><span class="text-soft">{words}</span></Cell>
              {#each u.accounts as a (a.target + a.name)}<Cell wide
                  >{#each a[list] ?? [] as g (g)}{@render asks(a, g, g)}{' '}{/each}</Cell
                >{/each}
            </Row>
          {/if}
        {/each}
        <Row
          ><Cell><span class="text-soft">because</span></Cell>{#each u.accounts as a (a.target + a.name)}<Cell>{a.because ?? ''}</Cell
            >{/each}</Row>
      </Grid>
    {/if}
    {#if why && explanation}
      <section aria-live="polite" class="border-rule bg-sheet mt-4 border p-4">
        <div class="flex justify-between">
          <h2>Why: {why.what} on <span class="name">{why.target}</span></h2>
          <Act soft onclick={() => (why = null)}>Close</Act>
        </div>
        <Await ask={explanation}>
          {#snippet children(x)}
            {#each x.answers as a (a.what)}
              <p class="m-0"><span class="font-medium">{a.what}</span> <State word={a.state} /></p>
              <ul class="mt-1 mb-2 list-none p-0">
                {#each a.why as w, i (i)}<li class="wrap-anywhere">
                    {w.words}
                    {#if w.at?.file}<span class="name text-soft">{w.at.file} line {w.at.line}</span>{/if}
                  </li>{/each}
              </ul>
            {:else}<p class="text-soft">Nothing is known of it.</p>{/each}
          {/snippet}
        </Await>
      </section>
      {#if u.accounts.some((a) => a.target === why?.target && a.name === why.account && a.attributes)}
        {#key why.target + why.account}<History target={why.target} kind="account" name={why.account} {called} />{/key}
      {/if}
    {:else if u.accounts.length}<p class="text-soft mt-2 text-sm">Press a value to see why it is so.</p>{/if}
    {#if drift.length}
      <h2 class="mt-8">What differs</h2>
      <Grid label="Findings" head={['Target', 'Kind', 'What would be done', 'Before → after', 'Because']}>
        {#each drift as f, i (i)}
          <Row
            ><Cell name><a use:link href="/targets/{encodeURIComponent(f.target)}">{f.target}</a></Cell><Cell><State word={f.kind} /></Cell
            ><Cell>{f.what}</Cell><Cell wide
              ><Change before={f.before} after={f.after} />{#if f.note}<br /><span class="text-soft text-sm">{f.note}</span>{/if}</Cell
            ><Cell>{f.because}</Cell></Row>
        {/each}
      </Grid>
    {/if}
    {#if accepted.length}
      <p class="text-soft mt-4">
        {count(accepted.length, 'difference is', 'differences are')} accepted for a time:
        {#each accepted as f, i (i)}{i ? '; ' : ''}{f.what} {f.subject} on {f.target} until {f['accepted-until']}{/each}.
      </p>
    {/if}
    <Because bind:open={drafting} title="Draft a round for {u.name}" verb="Draft" act={draft} />
  {/snippet}
</Await>
<Await ask={user}>
  {#snippet children(u)}<Credentials user={id} name={u.name} changed={() => mark++} />{/snippet}
</Await>
<TimeLine user={id} {mark} />
<div class="mt-8"><Sessions user={id} /></div>
<Happened user={id} {mark} />
