<script lang="ts">
  // Who is signed in now: asked of the targets when somebody wants to know.
  import { Button } from 'flowbite-svelte';
  import { api, ask, type Schemas } from '../api/client';
  import { count, when } from '../words';
  import Because from '../ui/Because.svelte';
  import Cell from '../ui/Cell.svelte';
  import Grid from '../ui/Grid.svelte';
  import Row from '../ui/Row.svelte';
  import Who from '../ui/Who.svelte';

  let { target, user }: { target?: string; user?: string } = $props();
  let found = $state<Schemas['Sessions']>();
  let chosen = $state<string[]>([]);
  let said = $state('');
  let ending = $state(false);
  let busy = $state(false);

  async function look() {
    busy = true;
    try {
      found = target
        ? await ask(api.GET('/api/targets/{name}/sessions', { params: { path: { name: target } } }))
        : await ask(api.GET('/api/users/{id}/sessions', { params: { path: { id: user! } } }));
      chosen = [];
    } catch (e) {
      said = (e as Error).message;
    } finally {
      busy = false;
    }
  }
  const holding = $derived(found?.items.some((s) => s.holds?.length));
  const key = (s: { target: string; name: string }) => `${s.target} ${s.name}`;

  async function end(because: string) {
    const by = new Map<string, string[]>();
    for (const one of chosen) {
      const [at, name] = one.split(' ');
      by.set(at, [...(by.get(at) ?? []), name]);
    }
    const words: string[] = [];
    for (const [name, sessions] of by) {
      const ended = await ask(api.POST('/api/targets/{name}/sessions/end', { params: { path: { name } }, body: { sessions, because } }));
      for (const x of ended) words.push(`${x.account || x.name} on ${name}: ${x.outcome}${x.words ? `, ${x.words}` : ''}`);
    }
    said = words.join('; ');
    await look();
  }
</script>

<h2>Who is signed in now</h2>
<p class="mb-3 flex items-baseline gap-4">
  <Button size="xs" class="bg-ink text-paper rounded" disabled={busy} onclick={look}>{busy ? 'Asking…' : 'Ask'}</Button>
  <span role="status">{said}</span>
</p>
{#if found}
  {#each Object.entries(found.not) as [at, why] (at)}<p class="text-barn mb-2">
      <span class="name">{at}</span> could not be asked: {why}
    </p>{/each}
  {#if found.items.length}
    <Grid label="Sessions" head={['', 'Account', 'Whose', 'Target', 'Since', 'From', ...(holding ? ['Holds'] : [])]}>
      {#each found.items as s (key(s))}
        <Row>
          <Cell><input type="checkbox" aria-label="Choose the session of {s.account}" value={key(s)} bind:group={chosen} /></Cell>
          <Cell name>{s.account}</Cell>
          <Cell><Who id={s.user} name={s['user-name']} /></Cell>
          <Cell name>{s.target}</Cell>
          <Cell>{when(s.since)}</Cell>
          <Cell name>{s.from ?? ''}</Cell>
          {#if holding}<Cell>{s.holds?.join(', ') ?? ''}</Cell>{/if}
        </Row>
      {/each}
    </Grid>
    {#if chosen.length}
      <p class="mt-3">
        <Button size="xs" class="bg-ink text-paper rounded" onclick={() => (ending = true)}
          >End {count(chosen.length, 'session', 'sessions')}</Button>
      </p>
    {/if}
    <Because bind:open={ending} title="End {count(chosen.length, 'session', 'sessions')}" verb="End" act={end} />
  {:else if !Object.keys(found.not).length}
    <p class="sub">Nobody is signed in there now.</p>
  {/if}
{/if}
