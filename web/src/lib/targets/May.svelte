<script lang="ts">
  import Field from '../ui/Field.svelte';
  // Whether somebody may do something on a target: what it takes, what gives that, and who is signed in with other rights.
  import { Button } from 'flowbite-svelte';
  import { api, ask, type Schemas } from '../api/client';
  import { when } from '../words';
  import Because from '../ui/Because.svelte';
  import State from '../ui/State.svelte';

  let { target, examples }: { target: string; examples: string[] } = $props();
  let user = $state('');
  let action = $state('');
  let found = $state<Schemas['Explanation']>();
  let said = $state('');
  let ending = $state<Schemas['OpenSession'] | null>(null);
  let asked = $state(false);

  async function look(e?: Event) {
    e?.preventDefault();
    said = '';
    try {
      found = await ask(api.GET('/api/explain', { params: { query: { user, target, action } } }));
    } catch (e) {
      found = undefined;
      said = (e as Error).message;
    }
  }
  async function end(because: string) {
    const name = ending!.name;
    const out = await ask(
      api.POST('/api/targets/{name}/sessions/end', { params: { path: { name: target } }, body: { sessions: [name], because } }),
    );
    said = out.map((x) => `Session ${x.name}: ${x.outcome}${x.words ? `, ${x.words}` : ''}.`).join(' ');
    ending = null;
    const told = said;
    await look();
    said = told;
  }
  const words: Record<string, string> = {
    yes: 'may do that.',
    no: 'may not do that.',
    'not known': 'may perhaps do that; it is not known.',
  };
</script>

<h2>Who may do what?</h2>
<form onsubmit={look} class="mb-2 flex flex-wrap items-baseline gap-x-4 gap-y-2">
  <label class="text-soft text-sm">may <Field bind:value={user} required placeholder="odd.strand" /></label>
  <label class="text-soft text-sm"
    >do <Field bind:value={action} required list="actions" placeholder={examples[0]} size={36} class="font-mono" /></label>
  <datalist id="actions"
    >{#each examples as x (x)}<option value={x}></option>{/each}</datalist>
  <Button size="xs" type="submit" class="bg-ink text-paper rounded">May they?</Button>
</form>
<p role="status" class="mb-2">{said}</p>
{#if found?.action}
  {@const a = found.action}
  <section class="border-rule bg-sheet mb-3 border p-4" aria-label="Answer">
    <p class="m-0 mb-2">
      <span class="font-medium">{found['user-name'] || found.user}</span>
      <span class={a.may === 'yes' ? 'text-teal' : 'text-barn'}>{words[a.may]}</span>
      {#if a.words}<span class="text-soft">{a.words}.</span>{/if}
      {#if !a.needs.length}<span class="text-soft">It takes no permission.</span>{/if}
    </p>
    {#each a.needs as n (n.permission)}
      <p class="m-0">It takes <span class="name">{n.permission}</span> <State word={n.state} /></p>
      <ul class="mt-1 mb-2 list-none pl-5">
        {#each n.gives as g (g.what)}
          <li>
            <span class="font-medium">{g.what === 'an account' ? 'the account itself' : g.what}</span> gives it <State word={g.state} />
            <ul class="text-soft list-none pl-5 text-sm">
              {#each g.why as w, i (i)}<li class="wrap-anywhere">
                  {w.words}
                  {#if w.at?.file}<span class="name">{w.at.file} line {w.at.line}</span>{/if}
                </li>{/each}
            </ul>
          </li>
        {:else}<li class="text-soft">No group or right that was seen there gives it.</li>{/each}
        {#if n.more}<li class="text-soft">and {n.more} more that give it</li>{/if}
      </ul>
    {/each}
    {#if a['not-asked']}<p class="text-soft m-0 text-sm wrap-anywhere">Whether they are signed in is not known: {a['not-asked']}</p>{/if}
    {#if a.sessions.length}
      <p class="m-0 mb-1">What is given or taken counts from the next sign-in. They are signed in now:</p>
      <ul class="list-none pl-5">
        {#each a.sessions as s (s.name)}
          <li>
            session <span class="name">{s.name}</span> since {when(s.since)}{#if s.from}, from <span class="name">{s.from}</span>{/if}:
            <span class={s.still.length || s['not-yet'].length ? 'text-barn' : ''}>{s.words}</span>
            <button class="ml-2 cursor-pointer text-sm underline" onclick={() => ((ending = s), (asked = true))}>End it</button>
          </li>
        {/each}
      </ul>
    {/if}
  </section>
{/if}
<Because bind:open={asked} title="End session {ending?.name}" verb="End" act={end} />
