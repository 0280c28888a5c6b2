<script lang="ts">
  import { Button, Select } from 'flowbite-svelte';
  import { api, ask } from '../api/client';
  import { link, router } from '../router.svelte';
  import { afresh, count } from '../words';
  import PendingNote from '../declaration/PendingNote.svelte';
  import Await from '../ui/Await.svelte';
  import Because from '../ui/Because.svelte';
  import Cell from '../ui/Cell.svelte';
  import Change from '../ui/Change.svelte';
  import Grid from '../ui/Grid.svelte';
  import Trail from '../ui/Trail.svelte';
  import Row from '../ui/Row.svelte';
  import State from '../ui/State.svelte';
  import Who from '../ui/Who.svelte';
  import Trend from './Trend.svelte';
  import Act from '../ui/Act.svelte';
  import Field from '../ui/Field.svelte';

  const size = 50;
  let trail = $state<string[]>([]);
  let target = $state(router.query.get('target') ?? '');
  let kind = $state(router.query.get('kind') ?? '');
  let user = $state(router.query.get('user') ?? '');
  let which = $state(router.query.get('which') ?? '');
  let first = $state('');
  let drafting = $state(false);
  let leaving = $state(false); // all but what is chosen
  let accepting = $state(false);
  let givingUp = $state(false);
  let until = $state('');
  let again = $state(0);
  let chosen = $state<string[]>([]);
  let error = $state('');
  // What is ticked belongs to the list it was ticked in.
  $effect(() => {
    void [target, kind, user, which];
    chosen = [];
  });
  const assigned = $derived(which && which !== 'accepted' ? which : undefined);
  const choice = $derived({ target: target ? [target] : [], kind: kind ? [kind] : [], user: user ? [user] : [] });
  const findings = $derived(
    afresh(again, () =>
      ask(
        api.GET('/api/findings', {
          params: { query: { ...choice, after: trail.at(-1), size, accepted: which === 'accepted' || undefined, assigned } },
        }),
      ),
    ),
  );
  let revision = 0; // that the list is of
  $effect(
    () =>
      void findings.then(
        (p) => (revision = p.revision),
        () => {},
      ),
  );
  const me = ask(api.GET('/api/session'));
  const targets = ask(api.GET('/api/targets', { params: { query: { size: 1000 } } }));
  $effect(() => router.keep({ target, kind, user, which }));

  async function draft(because: string) {
    const listed = { targets: choice.target, kinds: choice.kind, users: choice.user, assigned };
    const what = !chosen.length ? listed : leaving ? { ...listed, without: chosen } : { findings: chosen };
    const r = await ask(
      api.POST('/api/rounds', { body: { ...what, revision: revision || undefined, because, first: first || undefined } }),
    );
    if (!r.id)
      throw new Error(
        'Nothing to draft. ' +
          (r.undecided ? `For a person to decide: ${(r.decide ?? []).map((f) => `${f.subject} on ${f.target}`).join(', ')}.` : ''),
      );
    router.go(`/rounds/${r.id}`);
  }
  async function accept(because: string) {
    await ask(api.POST('/api/findings/accept', { body: { keys: chosen, until, because } }));
    done();
  }
  async function giveUp(because: string) {
    const r = await ask(api.POST('/api/findings/give-up', { body: { keys: chosen, because } }));
    router.go(`/declaration/${r.number}`);
  }
  async function noLonger(because: string) {
    await ask(api.POST('/api/findings/accept', { body: { keys: chosen, because } }));
    done();
  }
  async function assign(operator: string) {
    try {
      await ask(api.POST('/api/findings/assign', { body: { keys: chosen, operator } }));
      done();
    } catch (e) {
      error = (e as Error).message;
    }
  }
  function done() {
    chosen = [];
    error = '';
    again++;
  }
  const kinds = [
    { value: '', name: 'every kind' },
    ...[
      'missing',
      'unexpected',
      'different',
      'unmatched',
      'contested',
      'beyond',
      'passwordless',
      'shared-login',
      'factory',
      'dormant',
      'short',
      'unused-seat',
      'stale-home',
      'wide-open',
      'weak-sign-in',
      'shadowed',
      'uneven',
      'running-out',
      'clock-off',
      'expiring',
      'odd',
    ].map((k) => ({ value: k, name: k })),
  ];
</script>

<Await ask={findings}>
  {#snippet children(p)}
    <h1>
      {#if p.total}<span class="needs">{count(p.total, 'finding', 'findings')}</span>{target ? ' on ' + target : ''}{kind
          ? ', ' + kind
          : ''}{user ? ' of ' + user : ''}{assigned ? ' that ' + assigned + ' looks after' : ''}{which === 'accepted'
          ? ', accepted for a time'
          : ''}.{:else}{p.sentence}{/if}
    </h1>
    {#if p.total && p.unread?.length}<p class="bg-ochre-wash border-ochre mb-3 border-l-4 px-4 py-2">
        Not surveyed yet at the present address, so what is there is not known: {p.unread.join(', ')}.
      </p>{/if}
    <p class="sub">
      What the last surveys found to differ from the declaration. Nothing is changed on any target until a round is approved and run.
    </p>
    <PendingNote />
    <Trend {target} mark={again} />
    <div class="mb-5 flex flex-wrap items-center gap-4">
      {#if (chosen.length || p.total > p.decide) && which !== 'accepted'}<Button
          class="bg-ink text-paper rounded"
          onclick={() => {
            leaving = false;
            drafting = true;
          }}
          >Draft a round from {chosen.length
            ? `the ${chosen.length} chosen`
            : `${target || kind || user || which ? 'these' : 'all'} ${p.total - p.decide}`}</Button
        >{/if}
      <Await ask={targets}>
        {#snippet children(list)}
          <Select
            size="sm"
            class="w-44"
            aria-label="Target"
            bind:value={target}
            onchange={() => (trail = [])}
            placeholder=""
            items={[{ value: '', name: 'every target' }, ...list.items.map((t) => ({ value: t.name, name: `${t.name} (${t.total})` }))]} />
        {/snippet}
      </Await>
      <Select size="sm" class="w-36" aria-label="Kind" bind:value={kind} onchange={() => (trail = [])} placeholder="" items={kinds} />
      <Await ask={me}>
        {#snippet children(who)}
          <Select
            size="sm"
            class="w-44"
            aria-label="Which"
            bind:value={which}
            onchange={() => (trail = [])}
            placeholder=""
            items={[
              { value: '', name: 'not accepted' },
              { value: 'accepted', name: 'accepted for a time' },
              { value: who.name, name: 'assigned to me' },
            ]} />
          {#if chosen.length}
            <span class="flex items-baseline gap-4"
              >{count(chosen.length, 'finding', 'findings')} chosen:
              <Act onclick={() => (accepting = true)}>{which === 'accepted' ? 'accept no longer' : 'accept for a time'}</Act>
              {#if p.items.some((f) => chosen.includes(f.key)) && p.items.every((f) => !chosen.includes(f.key) || f.kind === 'contested')}
                <Act onclick={() => (givingUp = true)}>give up to what changes it</Act>
              {/if}
              {#if which !== 'accepted'}<Act
                  onclick={() => {
                    leaving = true;
                    drafting = true;
                  }}>draft all but these</Act
                >{/if}
              <Act onclick={() => assign(who.name)}>assign to me</Act>
              <Act onclick={() => assign('')}>to nobody</Act>
            </span>
          {/if}
        {/snippet}
      </Await>
      {#if user}<Act onclick={() => (user = '')}>of everybody</Act>{/if}
    </div>
    {#if error}<p class="text-barn" role="alert">{error}</p>{/if}
    {#if p.items.length}
      <Grid label="Findings" head={['', 'Target', 'Kind', 'Who', 'What would be done', 'To', 'Before → after', 'Because']}>
        {#each p.items as f (f.key)}
          <Row>
            <Cell
              ><input
                type="checkbox"
                class="accent-[var(--ink)]"
                value={f.key}
                bind:group={chosen}
                aria-label="Choose {f.kind} {f.what} {f.subject} on {f.target}" /></Cell>
            <Cell name><a use:link href="/targets/{encodeURIComponent(f.target)}" class="no-underline hover:underline">{f.target}</a></Cell>
            <Cell><State word={f.kind} /></Cell>
            <Cell><Who id={f.user} name={f['user-name']} /></Cell>
            <Cell>{f.what}</Cell>
            <Cell name>{f.subject}</Cell>
            <Cell wide
              ><Change before={f.before} after={f.after} />{#if f.note}<br /><span class="text-soft text-sm">{f.note}</span
                >{/if}{#if f.assigned}<br /><span class="text-soft text-sm">{f.assigned} looks after it</span
                >{/if}{#if f['accepted-until']}<br /><span class="text-soft text-sm"
                  >accepted by {f['accepted-by']} until {f['accepted-until']}: <q>{f['accepted-because']}</q></span
                >{/if}</Cell>
            <Cell>{f.because}</Cell>
          </Row>
        {/each}
      </Grid>
    {/if}
    <Trail bind:trail {size} shown={p.items.length} total={p.total} next={p.next} />
  {/snippet}
</Await>
<Because
  bind:open={drafting}
  title={leaving ? `Draft a round without ${count(chosen.length, 'finding', 'findings')}` : 'Draft a round'}
  verb="Draft"
  act={draft}>
  {#snippet more()}
    <label class="text-sm"
      >First on <Field bind:value={first} placeholder="all at once" class="w-36" aria-label="First wave" />
      <span class="text-soft">a number of targets of each kind, or a tag as fleet=vessels; the rest only if that held</span></label>
  {/snippet}
</Because>
<Because
  bind:open={accepting}
  title={which === 'accepted' ? 'Accept no longer' : 'Accept for a time'}
  verb={which === 'accepted' ? 'End it' : 'Accept'}
  act={which === 'accepted' ? noLonger : accept}>
  {#snippet more()}
    {#if which !== 'accepted'}<label class="text-sm">Until <Field type="date" bind:value={until} required /></label>{/if}
  {/snippet}
</Because>
<Because bind:open={givingUp} title="Give up to what changes it" verb="Give up" act={giveUp}>
  {#snippet more()}
    <p class="text-sm">What was put right and changed back is declared as left to others on those targets.</p>
  {/snippet}
</Because>
