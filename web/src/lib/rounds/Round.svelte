<!-- One round: review, approve, live progress, outcome. -->
<script lang="ts">
  import { Button } from 'flowbite-svelte';
  import { api, ask, Refused, type Schemas } from '../api/client';
  import { afresh, count, tally, when } from '../words';
  import PendingNote from '../declaration/PendingNote.svelte';
  import Await from '../ui/Await.svelte';
  import Password from '../ui/Password.svelte';
  import Cell from '../ui/Cell.svelte';
  import Change from '../ui/Change.svelte';
  import Grid from '../ui/Grid.svelte';
  import Trail from '../ui/Trail.svelte';
  import Row from '../ui/Row.svelte';
  import State from '../ui/State.svelte';
  import Who from '../ui/Who.svelte';
  import Because from '../ui/Because.svelte';
  import { link, router } from '../router.svelte';
  import Difference from '../targets/Difference.svelte';
  import { createRound } from './live.svelte';
  import Act from '../ui/Act.svelte';
  import Choice from '../ui/Choice.svelte';
  import Field from '../ui/Field.svelte';

  let { id }: { id: number } = $props();
  const size = 100;
  // svelte-ignore state_referenced_locally
  const live = createRound(id);
  let trail = $state<string[]>([]);
  let only = $state('');
  let error = $state('');
  let busy = $state(false);
  const r = $derived(live.current);
  const over = $derived(['complete', 'incomplete', 'stopped', 'undone'].includes(r?.state ?? ''));
  const refused = $derived(!!r?.['left-out'] && r['left-out'] === r.steps);
  const waves = $derived(
    [1, 2].map((wave) => ({ wave, targets: (r?.targets ?? []).filter((t) => t.wave === wave) })).filter((w) => w.targets.length),
  );
  let stopping = $state(false);
  let undoing = $state(false);
  let notBefore = $state('');
  let window = $state(false);

  async function stop(because: string) {
    live.set(await ask(api.POST('/api/rounds/{id}/stop', { params: { path: { id } }, body: { because } })));
  }
  async function undo(because: string) {
    const u = await ask(api.POST('/api/rounds/{id}/undo', { params: { path: { id } }, body: { because } }));
    if (!u.id) throw new Error('Nothing of it can be taken back. ' + (u.lost ?? []).join('; '));
    router.go(`/rounds/${u.id}`);
  }
  async function schedule(e: SubmitEvent) {
    e.preventDefault();
    error = '';
    try {
      live.set(
        await ask(
          api.POST('/api/rounds/{id}/schedule', {
            params: { path: { id } },
            body: { 'not-before': notBefore ? notBefore + ':00Z' : undefined, 'in-window': window },
          }),
        ),
      );
    } catch (e) {
      error = (e as Error).message;
    }
  }
  const lost = $derived(r?.lost ?? []);
  const acts = $derived(ask(api.GET('/api/rounds/{id}/acts', { params: { path: { id } } })));
  const steps = $derived(
    afresh(r?.state, () =>
      ask(
        api.GET('/api/rounds/{id}/steps', { params: { path: { id }, query: { after: trail.at(-1), size, outcome: only ? [only] : [] } } }),
      ),
    ),
  );

  let confirming = $state(false);
  let words = $state('');
  async function approve(password?: string) {
    live.set(await ask(api.POST('/api/rounds/{id}/approve', { params: { path: { id } }, body: { password } })));
  }
  async function move(how: 'approve' | 'run') {
    busy = true;
    error = '';
    try {
      if (how === 'approve') await approve();
      else live.set(await ask(api.POST('/api/rounds/{id}/run', { params: { path: { id } } })));
    } catch (e) {
      if (e instanceof Refused && e.code === 'password-needed') [words, confirming] = [e.message, true];
      else error = (e as Error).message;
    } finally {
      busy = false;
    }
  }
  /** people groups steps by whom they concern, in order. */
  function people(list: Schemas['Step'][]) {
    const by = new Map<string, Schemas['Step'][]>();
    for (const s of list) by.set(s.user ?? '', [...(by.get(s.user ?? '') ?? []), s]);
    return [...by.values()];
  }
</script>

{#if live.error}<p class="text-barn" role="alert">{live.error}</p>{/if}
{#if r}
  <div class="grid grid-cols-[minmax(0,1fr)] gap-10 lg:grid-cols-[minmax(0,1fr)_320px]">
    <section class="min-w-0">
      <h1>
        {#if over}Round {r.id}
          {r.state === 'stopped' ? 'was' : 'is'}
          {#if r.state === 'incomplete' || r.state === 'stopped'}<span class="needs">{r.state}</span>{:else}{r.state}{/if}: {tally(
            r.outcomes,
          )}.
        {:else}Round {r.id} makes {count(r.steps, 'change', 'changes')} for {count(r.people, 'person', 'people')} on {count(
            r.targets.length,
            'target',
            'targets',
          )}.
          {#if r.state === 'draft'}<span class="needs">It waits for approval.</span>{:else if r.state === 'held'}<span class="needs"
              >It is held.</span
            >{:else if r.state === 'approved' && r.scheduled}It starts by itself{r['not-before']
              ? ', not before ' + when(r['not-before']) + ' UTC'
              : ''}{r['in-window'] ? ', inside the windows of its targets' : ''}.{:else if r.state === 'approved'}<span class="needs"
              >It waits to be run.</span
            >{/if}{/if}
      </h1>
      <p class="sub">
        Drafted by {r['drafted-by']}
        {when(r['drafted-at'])}, revision {r.revision}{#if r['approved-by']}; approved by {r['approved-by']}
          {when(r['approved-at'])}{/if}{#if r['run-by']}; run by {r['run-by']} {when(r['started-at'])}{/if}{#if r['stopped-by']}; stopped by {r[
            'stopped-by'
          ]}{/if}{#if r['ended-at']}, ended {when(r['ended-at'])}{/if}.{#if r['kept-until']}{' '}What it changes against the declaration is
          kept until {r['kept-until']}.{/if}{#if r.undoes}{' '}It takes back
          <a use:link href="/rounds/{r.undoes}">round {r.undoes}</a>.{/if} <q>{r.because}</q>
      </p>
      {#if error}<p class="text-barn" role="alert">{error}</p>{/if}
      {#if r.state === 'draft' || r.state === 'held'}<PendingNote />{/if}
      {#if r.guard}<p class="bg-barn-wash border-barn mb-2 border-l-4 px-4 py-2">
          <strong class="font-medium">A guard stopped it</strong>: {r.guard}
        </p>{/if}
      {#if r['newer-revision']}<p class="bg-ochre-wash border-ochre mb-2 border-l-4 px-4 py-2">
          It was drafted from revision {r.revision}. Now revision {r['newer-revision']} is declared: steps that it no longer asks for are left
          out when the round runs, and what it adds is not in the round.
        </p>{/if}
      {#each r.holds as h, i (i)}
        <p class="bg-barn-wash border-barn mb-2 border-l-4 px-4 py-2">
          <strong class="font-medium">{h.kind}</strong>: {h.words}{#if h.firm}{refused
              ? '. Nobody can approve that.'
              : '. Nobody can approve that: it is left out when the round runs.'}{/if}
        </p>
      {/each}
      {#if r.state === 'held'}
        <p class="mb-2">
          {#if r.approvers?.length}An operator who did not draft it must approve it: {r.approvers.join(', ')}.{#if r['approved-alone']}
              All are too new, or have not signed in lately: who drafted it may approve it too.{/if}{:else if r['approved-alone']}No other
            operator could approve it, so the one who drafted it may, with their password.{:else}No operator can approve it at this moment.{/if}
          {#each r['approvers-later'] ?? [] as words, i (i)}<br /><span class="text-soft text-sm">Not yet: {words}.</span>{/each}
        </p>
      {/if}
      {#if lost.length}
        <details class="bg-ochre-wash border-ochre mb-2 border-l-4 px-4 py-2">
          <summary class="cursor-pointer">{count(lost.length, 'thing', 'things')} cannot be brought back</summary>
          <ul class="mt-1 mb-0 list-none p-0">
            {#each lost as words, i (i)}<li>{words}</li>{/each}
          </ul>
        </details>
      {/if}
      <p class="mb-4 flex flex-wrap items-baseline gap-4">
        {#if (r.state === 'draft' || r.state === 'held') && !refused}<Button
            class="bg-ink text-paper rounded"
            disabled={busy}
            onclick={() => move('approve')}>Approve</Button>
        {:else if r.state === 'approved'}<Button class="bg-ink text-paper rounded" disabled={busy} onclick={() => move('run')}
            >Run{r.scheduled ? ' now' : ''}</Button>
        {:else if r.state === 'running'}<State word="running" />{/if}
        {#if !over}<Act onclick={() => (stopping = true)}>{r.state === 'running' ? 'Stop' : 'Put away'}</Act>{/if}
        {#if over && r.state !== 'undone' && r.outcomes.done}<Act onclick={() => (undoing = true)}>Undo</Act>{/if}
        {#if r.state === 'incomplete'}<label class="text-soft text-sm"
            >show <Choice bind:value={only} onchange={() => (trail = [])}
              ><option value="">every step</option>{#each Object.keys(r.outcomes) as o (o)}<option value={o}>{o}</option>{/each}</Choice
            ></label
          >{/if}
      </p>
      {#if r.state === 'approved' && !r.scheduled}
        <form onsubmit={schedule} class="text-soft mb-4 flex flex-wrap items-baseline gap-3 text-sm">
          <label>or by itself, not before <Field type="datetime-local" bind:value={notBefore} /> UTC</label>
          <label><input type="checkbox" bind:checked={window} class="accent-[var(--ink)]" /> inside the windows of its targets</label>
          <button
            type="submit"
            disabled={!notBefore && !window}
            class="text-ink cursor-pointer underline disabled:cursor-default disabled:opacity-40">Schedule</button>
        </form>
      {/if}
      {#if ['draft', 'held', 'approved'].includes(r.state)}
        {#each r.targets.filter((t) => t.differs) as t (t.target)}<Difference target={t.target} round={r.id} />{/each}
      {/if}
      <Await ask={steps}>
        {#snippet children(p)}
          <Grid
            label="Steps"
            head={[
              'Target',
              'What is done',
              'To',
              'Before → after',
              ['draft', 'held', 'approved'].includes(r.state) ? 'Because' : 'Outcome',
            ]}>
            {#each people(p.items) as group (group[0].seq)}
              <tr
                ><td colspan="5" class="border-rule border-b-2 pt-4 pb-1 font-serif font-semibold"
                  >{#if group[0].user}<Who id={group[0].user} name={group[0]['user-name']} />{:else}Nobody in particular{/if}</td
                ></tr>
              {#each group as s (s.seq)}
                <Row>
                  <Cell name>{s.target}</Cell>
                  <Cell>{s.what}</Cell>
                  <Cell name>{s.user ? s.subject.split(' · ').at(-1) : s.subject}</Cell>
                  <Cell wide><Change before={s.before} after={s.after} /></Cell>
                  <Cell
                    >{#if ['draft', 'held', 'approved'].includes(r.state)}{s.because}{:else}<State word={s.outcome} />{/if}</Cell>
                </Row>
                {#if s.words}<tr><td></td><td colspan="4" class="text-barn pb-2 text-sm wrap-anywhere">{s.words}</td></tr>{/if}
              {/each}
            {/each}
          </Grid>
          <Trail bind:trail {size} shown={p.items.length} total={p.total} next={p.next} />
        {/snippet}
      </Await>
    </section>
    <aside>
      <h2>{over ? 'How it went' : 'Where'}</h2>
      {#each waves as { wave, targets } (wave)}
        {#if waves.length > 1}<h3 class="text-soft mt-3 mb-0 text-sm font-medium">
            {wave === 1 ? 'First' : 'Then, only if the first held'}
          </h3>{/if}
        {#each targets as t (t.target)}
          <div class="border-rule border-b py-1.5 text-sm">
            <div class="flex justify-between"><span class="name">{t.target}</span><span>{t.ended} of {t.steps}</span></div>
            <div
              class="bg-slate-wash mt-1 h-2 rounded"
              role="progressbar"
              aria-label={t.target}
              aria-valuemin="0"
              aria-valuemax={t.steps}
              aria-valuenow={t.ended}>
              <div
                class="h-2 rounded {t.outcomes.failed || t.outcomes['out-of-reach'] ? 'bg-barn' : 'bg-teal'}"
                style="width: {(100 * t.ended) / t.steps}%">
              </div>
            </div>
            {#await acts then list}<div class="text-soft mt-1 text-xs">
                {list
                  .filter((a) => a.target === t.target)
                  .map((a) => `${a.what} ${a.n}`)
                  .join(' · ')}
              </div>{/await}
          </div>
        {/each}
      {/each}
      <p class="sub mt-3 text-sm">
        Targets go side by side, those that feed others first, each in its own order: groups, accounts, memberships, and last what is shut.
        Every step reads again, changes, reads back.
      </p>
    </aside>
  </div>
{:else if !live.error}<p class="text-soft" role="status">Looking…</p>{/if}
<Because bind:open={stopping} title="Stop round {id}" verb="Stop" act={stop} />
<Because bind:open={undoing} title="Draft the round that takes round {id} back" verb="Draft" act={undo} />
<Password bind:open={confirming} {words} verb="Approve" act={approve} />
