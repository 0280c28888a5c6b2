<!-- What one revision changed from another, for people and in lines; and bringing it back. -->
<script lang="ts">
  import { Button } from 'flowbite-svelte';
  import { api, ask } from '../api/client';
  import { link, router } from '../router.svelte';
  import { count, when } from '../words';
  import Await from '../ui/Await.svelte';
  import Because from '../ui/Because.svelte';
  import Moves from './Moves.svelte';
  import Choice from '../ui/Choice.svelte';

  let { number }: { number: number } = $props();
  let other = $state(Number(router.query.get('with') ?? 0));
  $effect(() => router.keep({ with: other ? String(other) : '' }));
  const revision = $derived(ask(api.GET('/api/revisions/{number}', { params: { path: { number } } })));
  const compared = $derived(
    ask(api.GET('/api/revisions/{number}/compare', { params: { path: { number }, query: { with: other || undefined } } })),
  );
  const revisions = ask(api.GET('/api/revisions', { params: { query: { size: 200 } } }));
  let restoring = $state(false);
  async function restore(because: string) {
    const r = await ask(api.POST('/api/revisions/{number}/restore', { params: { path: { number } }, body: { because } }));
    router.go(`/declaration/${r.number}`);
  }
</script>

<Await ask={revision}>
  {#snippet children(r)}
    <h1>Revision {r.number}, by {r.operator}, {when(r['made-at'])}.</h1>
    <p class="sub"><q>{r.because}</q> <a use:link href="/declaration">The declaration now</a></p>
  {/snippet}
</Await>
<Await ask={revisions}>
  {#snippet children(list)}
    <p class="mb-4 flex flex-wrap items-baseline gap-4">
      <label class="text-soft text-sm"
        >compared with <Choice bind:value={other}
          ><option value={0}>the one before</option>{#each list.items.filter((x) => x.number !== number) as x (x.number)}<option
              value={x.number}>revision {x.number}</option
            >{/each}</Choice
        ></label>
      {#if list.items[0]?.number !== number}<Button class="bg-ink text-paper rounded" onclick={() => (restoring = true)}
          >Bring it back</Button
        >{/if}
    </p>
  {/snippet}
</Await>
<Await ask={compared}>
  {#snippet children(c)}
    <div class="grid grid-cols-[minmax(0,1fr)] gap-8 lg:grid-cols-2">
      <section class="min-w-0">
        <h2>For people, from revision {c.from} to {c.to}</h2>
        <Moves moves={c.moves} people={c.people} />
      </section>
      <section class="min-w-0">
        <h2>{count(c.lines.length, 'place', 'places')} in the files</h2>
        {#each c.lines.slice(0, 200) as l, i (i)}
          <p class="text-soft mt-3 mb-1"><span class="name">{l.file}</span> line {l.line}</p>
          <pre class="name m-0 overflow-x-auto">{#each l.before as s, n (n)}<span class="text-soft line-through">{s || ' '}</span
              >{'\n'}{/each}{#each l.after as s, n (n)}<span class="bg-teal-wash">{s || ' '}</span>{'\n'}{/each}</pre>
        {:else}<p class="text-soft">The files are the same.</p>{/each}
      </section>
    </div>
  {/snippet}
</Await>
<Because bind:open={restoring} title="Declare revision {number} anew" verb="Bring back" act={restore} />
