<script lang="ts">
  import { Button, Input, Select } from 'flowbite-svelte';
  import { api, ask, type Schemas } from '../api/client';
  import { link, router } from '../router.svelte';
  import { afresh, when } from '../words';
  import Await from '../ui/Await.svelte';
  import Act from '../ui/Act.svelte';

  const names = ['kind', 'operator', 'target', 'user', 'text'] as const;
  let filter = $state(Object.fromEntries(names.map((n) => [n, router.query.get(n) ?? ''])) as Record<(typeof names)[number], string>);
  let before = $state(0);
  let again = $state(0);
  const page = $derived(
    afresh(again, () => ask(api.GET('/api/record', { params: { query: { ...filter, before: before || undefined, size: 60 } } }))),
  );
  $effect(() => router.keep({ ...filter }));

  let chain = $state('');
  let sealed = $state(0); // entries that were not walked through again
  async function verify(every: boolean) {
    chain = 'Walking the chain…';
    sealed = 0;
    chain = await ask(api.GET('/api/record-check', { params: { query: { every } } })).then(
      (v) => {
        sealed = v.sealed ?? 0;
        return v.words + '.' + (v.head ? ` Head: entry ${v.head.checkpoint}, signed with ${v.print}.` : '');
      },
      (e: Error) => e.message,
    );
  }
  // This browser remembers the head it saw last, and says when the record has gone back since.
  let gone = $state('');
  async function remember() {
    const place = 'record seen';
    const was = JSON.parse(localStorage.getItem(place) ?? 'null') as Schemas['RecordHead'] | null;
    const head = await ask(api.GET('/api/record-head', { params: { query: { at: was?.checkpoint } } }));
    if (was && was.key !== head.key) gone = `The record is signed with another key than when this browser looked last, ${when(was.at)}.`;
    else if (was && was.checkpoint > head.checkpoint) {
      gone = `The record has gone back: it ends with entry ${head.checkpoint}, and held entry ${was.checkpoint}`;
      gone += ` when this browser looked last, ${when(was.at)}.`;
    } else if (was && was.hash !== head.then)
      gone = `The record is another: entry ${was.checkpoint} is not the one it held when this browser looked last, ${when(was.at)}.`;
    else if (head.checkpoint) localStorage.setItem(place, JSON.stringify(head));
  }
  remember().catch(() => {});
  let about = $state<Schemas['Entry'] | null>(null);
  let comment = $state('');
  let error = $state('');
  async function submit(e: SubmitEvent) {
    e.preventDefault();
    try {
      await ask(api.POST('/api/record/{seq}/comments', { params: { path: { seq: about!.seq } }, body: { text: comment } }));
      about = null;
      comment = error = '';
      again++;
    } catch (e) {
      error = (e as Error).message;
    }
  }
  const kinds = [
    'sign-in',
    'sign-in refused',
    'sign-out',
    'revision',
    'survey',
    'drift',
    'round',
    'step',
    'suspension',
    'shut-out',
    'session',
    'key',
    'secret',
    'operator',
    'comment',
    'intrusion',
  ];
</script>

<h1>The record, newest first.</h1>
<p class="sub">
  Who did what, where, when and why, and whether it held. Entries are only ever added, each chained to the one before. <button
    class="text-ink cursor-pointer underline"
    onclick={() => verify(false)}>Check the chain</button>
  <a class="text-ink" href="/api/record-export" download="record.jsonl">Take it away as a file</a>
  <span role="status" class="wrap-anywhere">{chain}</span>
  {#if sealed}<button class="text-ink cursor-pointer underline" onclick={() => verify(true)}>Walk through every entry</button>{/if}
</p>
{#if gone}<p class="bg-barn-wash border-barn border-l-4 px-4 py-2" role="alert">{gone}</p>{/if}
<div class="mb-4 flex flex-wrap gap-3">
  <Select
    size="sm"
    class="w-40"
    classes={{ select: 'py-1' }}
    aria-label="Kind"
    placeholder=""
    bind:value={filter.kind}
    onchange={() => (before = 0)}
    items={[{ value: '', name: 'every kind' }, ...kinds.map((k) => ({ value: k, name: k }))]} />
  {#each ['operator', 'target', 'user'] as const as n (n)}<div class="w-40">
      <Input size="sm" placeholder={n} aria-label={n} bind:value={filter[n]} oninput={() => (before = 0)} />
    </div>{/each}
  <div class="w-56">
    <Input size="sm" placeholder="words or reason" aria-label="Words or reason" bind:value={filter.text} oninput={() => (before = 0)} />
  </div>
</div>
<Await ask={page}>
  {#snippet children(p)}
    <ol class="m-0 list-none p-0">
      {#each p.items as e (e.seq)}
        <li class="border-rule grid grid-cols-[4em_9em_9em_1fr] gap-x-3 border-b py-1.5 max-sm:grid-cols-1">
          <span class="text-soft text-right">{e.seq}</span>
          <time class="text-soft" datetime={e.at}>{when(e.at)}</time>
          <span class="truncate">{e.operator}</span>
          <span class="wrap-anywhere">
            {#if e.kind === 'comment'}<span class="text-soft">on entry {e.about}:</span>{/if}
            {#if e.target && (e.kind === 'step' || e.kind === 'survey')}<a
                use:link
                href="/targets/{encodeURIComponent(e.target)}"
                class="name no-underline hover:underline">{e.target}</a
              >{/if}
            {e.words}
            {#if e.because}<q>{e.because}</q>{/if}
            {#if e.round}<a use:link href="/rounds/{e.round}" class="text-soft text-sm">round {e.round}</a>{/if}
            {#if e.kind !== 'comment'}<Act soft onclick={() => ((about = e), (comment = ''))}>comment</Act>{/if}
            {#if about?.seq === e.seq}
              <form onsubmit={submit} class="mt-1 flex gap-2">
                <Input size="sm" aria-label="Comment on entry {e.seq}" bind:value={comment} required maxlength={2000} autofocus /><Button
                  size="sm"
                  type="submit"
                  class="bg-ink text-paper rounded">Add</Button>
              </form>
              {#if error}<p class="text-barn" role="alert">{error}</p>{/if}
            {/if}
          </span>
        </li>
      {:else}<li class="text-soft">No entries.</li>{/each}
    </ol>
    <p class="mt-3 flex gap-4">
      {#if before}<Act onclick={() => (before = 0)}>Newest</Act>{/if}{#if p.next}<Act onclick={() => (before = p.next!)}>Older</Act>{/if}
    </p>
  {/snippet}
</Await>
