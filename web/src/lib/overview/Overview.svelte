<script lang="ts">
  import { Button } from 'flowbite-svelte';
  import { api, ask, type Schemas } from '../api/client';
  import { link, router } from '../router.svelte';
  import { afresh, count, when } from '../words';
  import Await from '../ui/Await.svelte';
  import Because from '../ui/Because.svelte';
  import TargetTable from '../targets/TargetTable.svelte';

  let again = $state(0);
  const overview = $derived(afresh(again, () => ask(api.GET('/api/overview'))));
  let drafting = $state(false);
  // Whatever happens, whoever does it, is seen here a moment later.
  $effect(() => {
    const events = new EventSource('/api/watch');
    let soon: ReturnType<typeof setTimeout> | undefined;
    events.addEventListener('watched', (e) => {
      const w: Schemas['Watched'] = JSON.parse(e.data);
      if (w.entries.length || w.targets.length || w.rounds.length) soon ??= setTimeout(() => ((soon = undefined), again++), 700);
    });
    return () => {
      clearTimeout(soon);
      events.close();
    };
  });

  async function draft(because: string) {
    const r = await ask(api.POST('/api/rounds', { body: { because } }));
    router.go(r.id ? `/rounds/${r.id}` : '/drift');
  }
</script>

<Await ask={overview}>
  {#snippet children(o)}
    <div class="grid grid-cols-[minmax(0,1fr)] gap-10 lg:grid-cols-[minmax(0,1fr)_360px]">
      <section class="min-w-0">
        <h1>
          {#if o.findings}As declared on {o.declared} of {count(o.total, 'target', 'targets')}.
            <a use:link href="/drift" class="needs no-underline">{count(o.findings, 'finding', 'findings')}</a>
            {o.findings === 1 ? 'needs' : 'need'} someone{#if o.rounds.length}, and round {o.rounds[0].id}
              {o.rounds[0].state === 'running'
                ? 'is running'
                : ['draft', 'held'].includes(o.rounds[0].state)
                  ? 'waits for approval'
                  : 'waits to be run'}{/if}.{:else}{o.sentence}{/if}
        </h1>
        {#if o.suspended.people}
          <p class="sub">
            {#if o.suspended.open}<span class="needs"
                >{count(o.suspended.open, 'suspended person is', 'suspended people are')} not shut out everywhere yet</span
              >:
              {#each o.suspended.users as u, i (u)}{i ? ', ' : ''}<a use:link href="/users/{encodeURIComponent(u)}" class="name">{u}</a
                >{/each}.{:else}{count(o.suspended.people, 'person is', 'people are')} suspended, and shut out.{/if}
          </p>
        {/if}
        {#if o.pending}
          <p class="sub">
            <a use:link href="/declaration" class="needs"
              >{count(o.pending, 'change of a guarded setting', 'changes of guarded settings')}
              {o.pending === 1 ? 'waits' : 'wait'} for approval</a
            >{#if o.new}; nobody signs in to {count(o.new, 'new target', 'new targets')} before that{/if}.
          </p>
        {/if}
        {#each o.alone as a (a.seq)}<p class="sub">{a.operator}, {when(a.at)}: {a.words}.</p>{/each}
        {#if o.revision}
          <p class="sub">
            Revision {o.revision.number} by {o.revision.operator}, {when(o.revision['made-at'])}: <q>{o.revision.because}</q>
            {count(o.revision.users, 'user', 'users')}, {count(o.revision.groups, 'group', 'groups')}, {count(
              o.revision.roles,
              'role',
              'roles',
            )}.
          </p>
        {/if}
        <p class="mb-6 flex flex-wrap items-baseline gap-4">
          {#if o.remedied}<Button class="bg-ink text-paper rounded" onclick={() => (drafting = true)}
              >Draft a round from {count(o.remedied, 'finding', 'findings')}</Button
            >{/if}
          {#each o.rounds as r (r.id)}<a use:link href="/rounds/{r.id}"
              >{['draft', 'held'].includes(r.state) ? 'Review' : r.state === 'running' ? 'Follow' : 'Run'} round {r.id}</a
            >{/each}
        </p>
        <h2>Targets</h2>
        <TargetTable targets={o.targets} />
        {#if o.total > o.targets.length}<p class="mt-3"><a use:link href="/targets">All {o.total} targets</a></p>{/if}
      </section>
      <aside>
        <h2>What happened</h2>
        <ol class="m-0 list-none p-0">
          {#each o.happened as e (e.seq)}
            <li class="border-rule border-b py-2">
              <time class="text-soft block text-[13px]" datetime={e.at}
                >{when(e.at)} · {e.operator === 'hen-roost' ? e.kind : e.operator}</time>
              <span class="wrap-anywhere"
                >{#if e.target && (e.kind === 'step' || e.kind === 'survey')}<span class="name">{e.target}</span>{': '}{/if}{e.words}</span>
              {#if e.because}{' '}<q>{e.because}</q>{/if}
            </li>
          {/each}
        </ol>
        <p class="mt-3"><a use:link href="/record">The whole record</a></p>
      </aside>
    </div>
  {/snippet}
</Await>
<Because bind:open={drafting} title="Draft a round from all that can be put right" verb="Draft" act={draft} />
