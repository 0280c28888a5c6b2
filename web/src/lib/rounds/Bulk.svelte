<!-- Changes asked for one by one, or for all whom a condition holds for; every line is answered. -->
<script lang="ts">
  import { Button, Input, Label } from 'flowbite-svelte';
  import { api, ask, type Schemas } from '../api/client';
  import { link } from '../router.svelte';
  import { count } from '../words';
  import Because from '../ui/Because.svelte';
  import Cell from '../ui/Cell.svelte';
  import Grid from '../ui/Grid.svelte';
  import Row from '../ui/Row.svelte';
  import State from '../ui/State.svelte';
  import Act from '../ui/Act.svelte';
  import Field from '../ui/Field.svelte';

  let way = $state<'table' | 'condition'>('table');
  let csv = $state('user,target,what\n');
  let where = $state('');
  let what = $state('');
  let targets = $state('');
  let until = $state('');
  let asking = $state(false);
  let out = $state<Schemas['BulkResult']>();
  const most = 200;
  const words = ['drafted', 'to-draft', 'already-so', 'refused'] as const;
  type Lines = Schemas['BulkResult']['lines'];
  const tally = (lines: Lines) => words.map((w) => ({ w, n: lines.filter((l) => l.outcome === w).length })).filter((x) => x.n);
  const first = (lines: Lines) =>
    [...lines].sort((a, b) => words.indexOf(b.outcome) - words.indexOf(a.outcome) || a.line - b.line).slice(0, most);
  const ready = $derived(way === 'table' ? csv.trim().includes('\n') : where.trim() !== '' && what.trim() !== '');

  async function draft(because: string) {
    out = await ask(api.POST('/api/bulk', { body: { ...request(), because } }));
  }
  async function open(file?: File) {
    if (file) csv = await file.text();
  }
  // What is dropped on the page is taken in, and what would become of each line is told before anything is drafted.
  function drop(e: DragEvent) {
    const file = e.dataTransfer?.files[0];
    if (!file || way !== 'table') return;
    e.preventDefault();
    open(file);
  }
  const request = () => ({ ...lines(), until: until || undefined });
  const lines = () =>
    way === 'table'
      ? { csv }
      : {
          where,
          what,
          targets: targets
            .split(',')
            .map((t) => t.trim())
            .filter(Boolean),
        };
  let seen = $state<Lines>([]);
  let trouble = $state('');
  $effect(() => {
    const body = request();
    seen = [];
    trouble = '';
    if (!ready || out) return;
    let old = false; // the table was changed since
    const wait = setTimeout(() => {
      ask(api.POST('/api/bulk', { body: { ...body, look: true } })).then(
        (r) => old || (seen = r.lines),
        (e: Error) => old || (trouble = e.message),
      );
    }, 400);
    return () => {
      old = true;
      clearTimeout(wait);
    };
  });
  const cell = (s: string | number) => (/[",\r\n]/.test(String(s)) ? `"${String(s).replaceAll('"', '""')}"` : String(s));
  /** outcomes is the answers as a table (RFC 4180). */
  const outcomes = $derived(
    'data:text/csv;charset=utf-8,' +
      encodeURIComponent(
        [
          ['line', 'user', 'target', 'what', 'outcome', 'words'],
          ...(out?.lines ?? []).map((l) => [l.line, l.user, l.target, l.what, l.outcome, l.words ?? '']),
        ]
          .map((r) => r.map(cell).join(','))
          .join('\r\n') + '\r\n',
      ),
  );
</script>

{#snippet answers(label: string, lines: Lines)}
  <Grid {label} head={[{ figure: 'Line' }, 'Who', 'Target', 'What', 'Outcome', 'Why']}>
    {#each first(lines) as l, i (i)}
      <Row>
        <Cell figure>{l.line}</Cell>
        <Cell name>{l.user}</Cell>
        <Cell name>{l.target}</Cell>
        <Cell>{l.what}</Cell>
        <Cell><State word={l.outcome} /></Cell>
        <Cell wide>{l.words ?? ''}</Cell>
      </Row>
    {/each}
  </Grid>
  {#if lines.length > most}<p class="text-soft mt-2">The first {most}, those refused before the others.</p>{/if}
{/snippet}
<svelte:window ondragover={(e) => way === 'table' && e.preventDefault()} ondrop={drop} />
{#if out}
  <h1>
    {count(out.lines.length, 'change', 'changes')}: {#each tally(out.lines) as { w, n }, i (w)}{i ? ', ' : ''}<span
        class={w === 'refused' ? 'needs' : ''}>{n} {w}</span
      >{/each}.
  </h1>
  <p class="sub">
    {#if out.round.id}<a use:link href="/rounds/{out.round.id}">Round {out.round.id}</a> holds what was drafted{out.round.state === 'held'
        ? '; it is held'
        : ''}, and waits to be looked at.{:else}There is nothing to do, so no round was drafted.{/if}
    <a href={outcomes} download="outcomes.csv">The answers as a file</a>
  </p>
  {@render answers('Answers', out.lines)}
  <p class="mt-5"><Act onclick={() => (out = undefined)}>Ask for more</Act></p>
{:else}
  <h1>Ask for many changes at once.</h1>
  <p class="sub">
    They become a round, to be looked at and approved like any other. The declaration stays as it is: what it says otherwise is drift,
    accepted until the day that you name.
  </p>
  <div class="mb-4 flex gap-x-4" role="tablist" aria-label="How to ask">
    <button
      role="tab"
      aria-selected={way === 'table'}
      class="cursor-pointer {way === 'table' ? 'border-barn border-b-2' : 'text-soft'}"
      onclick={() => (way = 'table')}>One a line</button>
    <button
      role="tab"
      aria-selected={way === 'condition'}
      class="cursor-pointer {way === 'condition' ? 'border-barn border-b-2' : 'text-soft'}"
      onclick={() => (way = 'condition')}>All for whom a condition holds</button>
  </div>
  <div class="max-w-3xl">
    {#if way === 'table'}
      <p class="text-soft mb-2">
        A table with the columns user, target and what. A target of * means all where the user has an account, as in <code
          >marit.fell,*,disable</code
        >.
        <label class="text-ink cursor-pointer underline focus-within:outline-2 focus-within:outline-offset-2"
          >Take it from a file<input
            type="file"
            accept=".csv,text/csv"
            class="sr-only"
            onchange={(e) => open(e.currentTarget.files?.[0])} /></label
        >, or drop one on this page.
      </p>
      <textarea
        bind:value={csv}
        spellcheck="false"
        wrap="off"
        aria-label="Changes, one a line"
        class="border-rule bg-sheet name h-56 w-full rounded border p-3 leading-5"></textarea>
    {:else}
      <div class="flex flex-col gap-3">
        <div>
          <Label for="where">Holds for</Label><Input
            id="where"
            class="name"
            bind:value={where}
            placeholder="user.details.base == 'southness'" />
        </div>
        <div>
          <Label for="targets">On targets</Label><Input
            id="targets"
            class="name"
            bind:value={targets}
            placeholder="all where they have an account; or northquay, arctic-tern" />
        </div>
        <div><Label for="what">What</Label><Input id="what" class="name" bind:value={what} placeholder="leave stores" /></div>
      </div>
    {/if}
    <p class="text-soft my-3">
      What is <code>disable</code>, <code>enable</code>, <code>remove</code>, <code>join GROUP</code>, <code>leave GROUP</code> or
      <code>change ATTRIBUTE=VALUE</code>. A line without a user is <code>remove group NAME</code>.
    </p>
    <p class="mb-3">
      <label
        >Keep what is against the declaration until
        <Field type="date" bind:value={until} /></label>
      <span class="text-soft">left empty: until the next round</span>
    </p>
    <Button class="bg-ink text-paper rounded" disabled={!ready} onclick={() => (asking = true)}>Draft a round</Button>
  </div>
  {#if trouble}<p class="text-barn mt-4" role="alert">{trouble}</p>{/if}
  {#if seen.length}
    <h2 class="mt-6">
      What would become of {count(seen.length, 'line', 'lines')}: {tally(seen)
        .map(({ w, n }) => `${n} ${w}`)
        .join(', ')}.
    </h2>
    {@render answers('What would become of each line', seen)}
  {/if}
{/if}
<Because bind:open={asking} title="Draft a round of changes asked for" verb="Draft" act={draft} />
