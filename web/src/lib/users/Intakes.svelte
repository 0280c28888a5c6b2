<script lang="ts">
  // What other systems have pushed in, and what of it waits to be taken.
  import { Button, Input, Label } from 'flowbite-svelte';
  import { api, ask, type Schemas } from '../api/client';
  import { count, when } from '../words';
  import { link, router } from '../router.svelte';
  import Await from '../ui/Await.svelte';
  import Because from '../ui/Because.svelte';
  import Cell from '../ui/Cell.svelte';
  import Grid from '../ui/Grid.svelte';
  import Row from '../ui/Row.svelte';
  import Who from '../ui/Who.svelte';

  let system = $state('');
  let taking = $state(false);
  let leaving = $state('');
  const sources = $derived(ask(api.GET('/api/intakes')));
  $effect(() => {
    sources.then((list) => (system ||= list[0]?.name ?? ''));
  });
  let again = $state(0); // the proposal is asked for anew
  const proposal = $derived.by(() => {
    void again;
    return system ? ask(api.GET('/api/intakes/{name}', { params: { path: { name: system } } })) : null;
  });
  const told = 200; // changes that are shown
  const becomes = (e: Schemas['Edit']) => {
    if (e.do === 'take') return 'nothing';
    const v = e.value as Record<string, unknown> | string;
    if (typeof v !== 'object') return String(v);
    return ['name', 'mail', 'manager', 'roles']
      .filter((k) => v[k])
      .map((k) => `${k} ${v[k]}`)
      .join(' · ');
  };
  let mark = $state(''); // of what was shown when somebody chose to take it
  let error = $state('');
  // From then on they may leave by what the system pushes.
  async function give(users: string[]) {
    error = '';
    try {
      await ask(api.POST('/api/intakes/{name}/people', { params: { path: { name: system } }, body: { users } }));
      again++;
    } catch (e) {
      error = (e as Error).message;
    }
  }
  async function take(because: string) {
    const r = await ask(
      api.POST('/api/intakes/{name}/take', {
        params: { path: { name: system } },
        body: { mark, because, leaving: Number(leaving) || 0 },
      }),
    );
    router.go(`/declaration/${r.number}`);
  }
</script>

<Await ask={sources}>
  {#snippet children(list)}
    {#if list.length}
      <h1>{count(list.length, 'system pushes', 'systems push')} people in.</h1>
      <Grid label="Systems" head={['System', { figure: 'People' }, 'Last push', 'Taken', 'New ones get', 'File']}>
        {#each list as s (s.name)}
          <Row>
            <Cell name><button class="underline" aria-pressed={system === s.name} onclick={() => (system = s.name)}>{s.name}</button></Cell>
            <Cell figure>{s.people}</Cell>
            <Cell>{s.last ? when(s.last) : ''}</Cell>
            <Cell>{s.settings['at-once'] ? 'by itself' : 'by an operator'}</Cell>
            <Cell name>{(s.settings.roles ?? []).join(', ')}</Cell>
            <Cell name>{s.settings.file ?? ''}</Cell>
          </Row>
        {/each}
      </Grid>
    {:else}
      <h1>No system pushes people in.</h1>
      <p class="sub">
        One that can speak SCIM 2.0 may: <code>roost operator add personnel --duties push</code>, then
        <code>roost intake set personnel</code>.
      </p>
    {/if}
  {/snippet}
</Await>
{#if proposal}
  <h2 class="mt-6">What {system} would change</h2>
  <Await ask={proposal}>
    {#snippet children(p)}
      <p class="sub">
        {p.new} new, {p.changed} changed, {p.leaving.length} leaving, {p.back.length} back, {p.same} the same.
        {#if p.held}<span class="text-barn">Held: {p.held}.</span>{/if}
      </p>
      {#if p.edits.length}
        <p class="my-3">
          <Button class="bg-ink text-paper rounded" onclick={() => ((mark = p.mark), (taking = true))}
            >Take {count(p.edits.length, 'change', 'changes')}</Button>
        </p>
        <Grid label="Changes" head={['User', 'Field', 'Becomes']}>
          {#each p.edits.slice(0, told) as e, i (i)}
            <Row>
              <Cell><Who id={e.name} name={e.name} /></Cell>
              <Cell name>{e.key ?? 'new'}</Cell>
              <Cell wide>{becomes(e)}</Cell>
            </Row>
          {/each}
        </Grid>
        {#if p.edits.length > told}<p class="sub">… and {p.edits.length - told} more.</p>{/if}
      {/if}
      {#if p['not-theirs'].length}
        <p class="sub">
          {count(p['not-theirs'].length, 'more user', 'more users')} would leave: {p['not-theirs'].slice(0, 20).join(', ')}{p['not-theirs']
            .length > 20
            ? ', …'
            : ''}. They stay, because {system} neither brought them nor was given them.
          <button class="underline" onclick={() => give(p['not-theirs'])}>Give them to {system}</button>
        </p>
      {/if}
      {#if error}<p class="text-barn" role="alert">{error}</p>{/if}
      {#each p.faults as f (f.line)}<p class="text-barn">Not read: {f.words}</p>{/each}
      <Because bind:open={taking} title={`Take what ${system} has pushed in`} verb="Take" act={take}>
        {#snippet more()}
          {#if p.held}
            <Label for="leaving">{p.held}. To take it all the same, say how many leave.</Label>
            <Input id="leaving" bind:value={leaving} inputmode="numeric" />
          {/if}
        {/snippet}
      </Because>
    {/snippet}
  </Await>
{/if}
<p class="mt-6"><a use:link href="/users">All users</a></p>
