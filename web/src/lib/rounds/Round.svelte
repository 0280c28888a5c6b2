<!-- One round: review, approve, live progress, outcome. -->
<script lang="ts">
  import { Button } from 'flowbite-svelte';
  import { api, ask, type Schemas } from '../api/client';
  import { afresh, count, tally, when } from '../words';
  import Await from '../ui/Await.svelte';
  import Cell from '../ui/Cell.svelte';
  import Change from '../ui/Change.svelte';
  import Grid from '../ui/Grid.svelte';
  import Pager from '../ui/Pager.svelte';
  import Row from '../ui/Row.svelte';
  import State from '../ui/State.svelte';
  import Who from '../ui/Who.svelte';
  import { createRound } from './live.svelte';

  let { id }: { id: number } = $props();
  const size = 100;
  // svelte-ignore state_referenced_locally
  const live = createRound(id);
  let from = $state(0);
  let only = $state('');
  let error = $state('');
  let busy = $state(false);
  const r = $derived(live.current);
  const over = $derived(r?.state === 'complete' || r?.state === 'incomplete');
  const steps = $derived(afresh(r?.state, () => ask(api.GET('/api/rounds/{id}/steps', { params: { path: { id }, query: { from, size, outcome: only ? [only] : [] } } }))));

  async function move(how: 'approve' | 'run') {
    busy = true;
    error = '';
    try {
      live.set(await ask(how === 'approve' ? api.POST('/api/rounds/{id}/approve', { params: { path: { id } } }) : api.POST('/api/rounds/{id}/run', { params: { path: { id } } })));
    } catch (e) {
      error = (e as Error).message;
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
        {#if over}Round {r.id} is {#if r.state === 'incomplete'}<span class="needs">incomplete</span>{:else}complete{/if}: {tally(r.outcomes)}.
        {:else}Round {r.id} makes {count(r.steps, 'change', 'changes')} for {count(r.people, 'person', 'people')} on {count(r.targets.length, 'target', 'targets')}.
          {#if r.state === 'draft'}<span class="needs">It waits for approval.</span>{:else if r.state === 'approved'}<span class="needs">It waits to be run.</span>{/if}{/if}
      </h1>
      <p class="sub">Drafted by {r['drafted-by']} {when(r['drafted-at'])}, revision {r.revision}{#if r['approved-by']}; approved by {r['approved-by']} {when(r['approved-at'])}{/if}{#if r['run-by']}; run by {r['run-by']} {when(r['started-at'])}{/if}{#if r['ended-at']}, ended {when(r['ended-at'])}{/if}. <q>{r.because}</q></p>
      {#if error}<p class="text-barn" role="alert">{error}</p>{/if}
      <p class="mb-4 flex items-baseline gap-4">
        {#if r.state === 'draft'}<Button class="bg-ink text-paper rounded" disabled={busy} onclick={() => move('approve')}>Approve</Button>
        {:else if r.state === 'approved'}<Button class="bg-ink text-paper rounded" disabled={busy} onclick={() => move('run')}>Run</Button>
        {:else if r.state === 'running'}<State word="running" />{/if}
        {#if r.state === 'incomplete'}<label class="text-soft text-sm">show <select bind:value={only} onchange={() => (from = 0)} class="border-rule bg-sheet text-ink rounded border px-2 py-0.5"><option value="">every step</option>{#each Object.keys(r.outcomes) as o (o)}<option value={o}>{o}</option>{/each}</select></label>{/if}
      </p>
      <Await ask={steps}>
        {#snippet children(p)}
          <Grid label="Steps" head={['Target', 'What is done', 'To', 'Before → after', r.state === 'draft' || r.state === 'approved' ? 'Because' : 'Outcome']}>
            {#each people(p.items) as group (group[0].seq)}
              <tr><td colspan="5" class="border-rule border-b-2 pt-4 pb-1 font-serif font-semibold">{#if group[0].user}<Who id={group[0].user} name={group[0]['user-name']} />{:else}Nobody in particular{/if}</td></tr>
              {#each group as s (s.seq)}
                <Row>
                  <Cell name>{s.target}</Cell>
                  <Cell>{s.what}</Cell>
                  <Cell name>{s.user ? s.subject.split(' · ').at(-1) : s.subject}</Cell>
                  <Cell wide><Change before={s.before} after={s.after} /></Cell>
                  <Cell>{#if r.state === 'draft' || r.state === 'approved'}{s.because}{:else}<State word={s.outcome} />{/if}</Cell>
                </Row>
                {#if s.words}<tr><td></td><td colspan="4" class="text-barn pb-2 text-sm wrap-anywhere">{s.words}</td></tr>{/if}
              {/each}
            {/each}
          </Grid>
          <Pager {from} {size} total={p.total} go={(n) => (from = n)} />
        {/snippet}
      </Await>
    </section>
    <aside>
      <h2>{over ? 'How it went' : 'Where'}</h2>
      {#each r.targets as t (t.target)}
        <div class="border-rule border-b py-1.5 text-sm">
          <div class="flex justify-between"><span class="name">{t.target}</span><span>{t.ended} of {t.steps}</span></div>
          <div class="bg-slate-wash mt-1 h-2 rounded" role="progressbar" aria-label="{t.target}" aria-valuemin="0" aria-valuemax={t.steps} aria-valuenow={t.ended}><div class="h-2 rounded {t.outcomes.failed || t.outcomes['out-of-reach'] ? 'bg-barn' : 'bg-teal'}" style="width: {(100 * t.ended) / t.steps}%"></div></div>
        </div>
      {/each}
      <p class="sub mt-3 text-sm">Targets go side by side, each in its own order: groups, accounts, memberships, and last what is shut. Every step reads again, changes, reads back.</p>
    </aside>
  </div>
{:else if !live.error}<p class="text-soft" role="status">Looking…</p>{/if}
