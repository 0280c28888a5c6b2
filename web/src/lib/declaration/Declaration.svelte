<!-- The declaration's files, checked while one types, with what the change means beside them, and its revisions. -->
<script lang="ts">
  import { Button } from 'flowbite-svelte';
  import { api, ask, Refused, type Schemas } from '../api/client';
  import { link, router } from '../router.svelte';
  import { count, when } from '../words';
  import Await from '../ui/Await.svelte';
  import Because from '../ui/Because.svelte';
  import Cell from '../ui/Cell.svelte';
  import Grid from '../ui/Grid.svelte';
  import Pager from '../ui/Pager.svelte';
  import Row from '../ui/Row.svelte';
  import Allot from './Allot.svelte';
  import Lines from './Lines.svelte';
  import Moves from './Moves.svelte';
  import Pending from './Pending.svelte';
  import Settings from './Settings.svelte';
  import { keep, leave, takeUp } from './draft';
  import Act from '../ui/Act.svelte';

  const size = 20;
  let from = $state(0);
  const revisions = $derived(ask(api.GET('/api/revisions', { params: { query: { from, size } } })));

  let stored = $state.raw<Schemas['RevisionFiles']>(); // that the text was begun from
  let files = $state<{ name: string; text: string }[]>([]);
  let at = $state(0);
  let error = $state('');
  let kept = $state(false); // the text was left here before
  let me = ''; // who writes it
  const begin = (r: Schemas['RevisionFiles'], text: { name: string; text: string }[]) => (
    (stored = r),
    (files = text.map((f) => ({ ...f })))
  );
  const revision = (number: number) => ask(api.GET('/api/revisions/{number}', { params: { path: { number } } }));
  async function open() {
    me = (await ask(api.GET('/api/session'))).name;
    const draft = takeUp(me);
    if (draft) {
      begin(await revision(draft.from), draft.files);
      kept = true;
    } else {
      const r = await revision(0);
      begin(r, r.files);
    }
  }
  open().catch((e: Error) => (error = e.message));
  async function forget() {
    leave(me);
    kept = false;
    error = '';
    await open().catch((e: Error) => (error = e.message));
  }
  // What is being written outlives the page: a reload, a session that ends, another page.
  $effect(() => {
    const text = files.map((f) => ({ name: f.name, text: f.text }));
    if (!stored) return;
    if (changed.length) keep(me, { from: stored.number, files: text });
    else leave(me);
  });
  const changed = $derived(files.filter((f, i) => f.text !== stored?.files[i]?.text).map((f) => f.name));

  let meaning = $state.raw<Schemas['Meaning']>();
  let faults = $state.raw<Schemas['Fault'][]>([]);
  let clashes = $state.raw<Schemas['Clash'][]>([]);
  let wrong = $state('');
  let asked = 0;
  // Each change asks anew a moment after the last key; an answer that comes late is not shown.
  $effect(() => {
    const now = files.map((f) => ({ name: f.name, text: f.text }));
    const mine = ++asked;
    if (!changed.length) {
      [meaning, faults, clashes, wrong] = [undefined, [], [], ''];
      return;
    }
    const timer = setTimeout(async () => {
      try {
        const m = await ask(api.POST('/api/meaning', { body: { from: stored!.number, files: now } }));
        if (mine === asked) [meaning, faults, clashes, wrong] = [m, [], [], ''];
      } catch (e) {
        if (mine === asked)
          [meaning, faults, clashes, wrong] = [
            undefined,
            e instanceof Refused ? e.faults : [],
            e instanceof Refused ? e.clashes : [],
            (e as Error).message,
          ];
      }
    }, 350);
    return () => clearTimeout(timer);
  });

  let box = $state<HTMLTextAreaElement>();
  /** show puts the cursor where a fault is. */
  function show(f: Schemas['Fault']) {
    const i = files.findIndex((x) => x.name === f.at.file);
    if (i < 0) return;
    at = i;
    queueMicrotask(() => {
      const lines = files[i].text.split('\n');
      const start = lines.slice(0, f.at.line - 1).join('\n').length + (f.at.line > 1 ? 1 : 0);
      box?.focus();
      box?.setSelectionRange(start, start + (lines[f.at.line - 1]?.length ?? 0));
      if (box) box.scrollTop = Math.max(0, (f.at.line - 8) * 20);
    });
  }
  let declaring = $state(false);
  async function declare(because: string) {
    const r = await ask(api.POST('/api/revisions', { body: { from: stored!.number, files, because } }));
    leave(me);
    router.go(`/declaration/${r.number}`);
  }
</script>

<h1>
  {#if changed.length}<span class="needs">{count(changed.length, 'file is', 'files are')} changed</span> and not declared yet.{:else if stored}Revision
    {stored.number} is declared.{:else}The declaration.{/if}
</h1>
{#if stored}<p class="sub">
    Declared by {stored.operator}
    {when(stored['made-at'])}: <q>{stored.because}</q> Nothing changes on any target by declaring; see <a use:link href="/drift">drift</a>.
  </p>{/if}
<Pending />
{#if error}<p class="bg-barn-wash border-barn border-l-4 px-4 py-2" role="alert">{error}</p>{/if}
{#if kept && changed.length && stored}<p class="bg-ochre-wash border-ochre border-l-4 px-4 py-2" role="status">
    This is the text that you left here, begun from revision {stored.number}.
    <Act onclick={forget}>Forget it and begin from the newest</Act>
  </p>{/if}
{#if files.length}
  <div class="grid grid-cols-[minmax(0,1fr)] gap-8 lg:grid-cols-[minmax(0,1fr)_380px]">
    <section class="min-w-0">
      <div class="mb-2 flex flex-wrap gap-x-4 gap-y-1" role="tablist" aria-label="Files">
        {#each files as f, i (f.name)}
          <button
            role="tab"
            aria-selected={i === at}
            class="name cursor-pointer {i === at ? 'border-barn border-b-2' : 'text-soft'}"
            onclick={() => (at = i)}>{f.name}{changed.includes(f.name) ? ' •' : ''}</button>
        {/each}
      </div>
      <textarea
        bind:this={box}
        bind:value={files[at].text}
        spellcheck="false"
        wrap="off"
        aria-label="Text of {files[at].name}"
        class="border-rule bg-sheet name h-[480px] w-full rounded border p-3 leading-5"></textarea>
    </section>
    <aside aria-live="polite">
      <h2>What it means</h2>
      {#if !changed.length}<p class="text-soft">Change something, and here stands what it means for people, before it is stored.</p>
        <Allot />
      {:else if wrong}
        <p class="text-barn" role="alert">
          {faults.length ? count(faults.length, 'fault', 'faults') + '; it cannot be declared so.' : wrong}
        </p>
        <ul class="m-0 list-none p-0">
          {#each faults.slice(0, 40) as f (f.at.file + f.at.line + f.at.column + f.message)}
            <li class="border-rule border-b py-1.5">
              <button class="name cursor-pointer underline" onclick={() => show(f)}>{f.at.file}:{f.at.line}:{f.at.column ?? 1}</button>
              <span class="wrap-anywhere">{f.message}</span>
            </li>
          {/each}
        </ul>
        {#each clashes.slice(0, 20) as c (c.file + c.line)}
          <section class="border-rule my-2 border p-2 text-sm" aria-label="{c.file}, line {c.line}">
            <p class="name m-0">{c.file}, line {c.line}</p>
            {#each [['was', c.before], ['theirs', c.theirs], ['yours', c.mine]] as [who, lines] (who)}
              <p class="m-0 grid grid-cols-[3.5em_1fr]">
                <span class="text-soft">{who}</span><span class="name wrap-anywhere whitespace-pre-wrap"
                  >{(lines as string[]).join('\n') || '(nothing)'}</span>
              </p>
            {/each}
          </section>
        {/each}
        {#if clashes.length}<p>
            Make these lines as theirs and the rest of your text can be declared, or <Act onclick={forget}
              >forget your text and begin from the newest</Act
            >.
          </p>{/if}
      {:else if meaning}
        {#if meaning.merged?.length}<p class="mb-1">
            Revision {meaning.revision} was declared since you began from {stored?.number}. Its changes come along:
          </p>
          <Lines lines={meaning.merged} />{/if}
        {#if meaning.pending?.length}<p class="mb-1">
            <span class="needs">{count(meaning.waits, 'change of a guarded setting', 'changes of guarded settings')}</span> would wait for approval;
            until then the old values stay in force:
          </p>
          <Settings items={meaning.pending} total={meaning.waits} />{/if}
        {#if meaning['secrets-not-set']?.length}<p class="bg-ochre-wash border-ochre mb-2 border-l-4 px-3 py-1">
            Nobody has set these secrets: {meaning['secrets-not-set'].join(', ')}. Until then Hen Roost does not sign in to their targets.
          </p>{/if}
        {#each meaning['pools-short'] ?? [] as words (words)}<p class="bg-ochre-wash border-ochre mb-2 border-l-4 px-3 py-1">
            {words}
          </p>{/each}
        {#if meaning['groups-not-given']?.length}<p class="text-soft">
            No role gives these groups: {meaning['groups-not-given'].join(', ')}. No target gets them.
          </p>{/if}
        <Moves moves={meaning.moves} people={meaning.people} />
        <p class="my-3">Against the last surveys: {count(meaning.findings, 'finding', 'findings')}, and {meaning.before} before.</p>
        <Button class="bg-ink text-paper rounded" onclick={() => (declaring = true)}>Declare it</Button>
      {:else}<p class="text-soft" role="status">Checking…</p>{/if}
    </aside>
  </div>
{/if}
<h2 class="mt-8">Revisions</h2>
<Await ask={revisions}>
  {#snippet children(p)}
    <Grid label="Revisions" head={[{ figure: 'Revision' }, 'Declared', 'By', 'Because', '']}>
      {#each p.items as r (r.number)}
        <Row>
          <Cell figure>{r.number}</Cell>
          <Cell>{when(r['made-at'])}</Cell>
          <Cell>{r.operator}</Cell>
          <Cell wide><q>{r.because}</q></Cell>
          <Cell><a use:link href="/declaration/{r.number}">what it changed</a></Cell>
        </Row>
      {/each}
    </Grid>
    <Pager {from} {size} total={p.total} go={(n) => (from = n)} />
  {/snippet}
</Await>
<Because bind:open={declaring} title="Declare a new revision" verb="Declare" act={declare} />
