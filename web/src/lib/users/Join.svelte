<!-- People join: one, or all of a table. First it is shown what that means. -->
<script lang="ts">
  import { Button, Checkbox, Input, Label } from 'flowbite-svelte';
  import { api, ask, type Schemas } from '../api/client';
  import { link } from '../router.svelte';
  import { count } from '../words';
  import Moves from '../declaration/Moves.svelte';
  import Cell from '../ui/Cell.svelte';
  import Grid from '../ui/Grid.svelte';
  import Row from '../ui/Row.svelte';
  import State from '../ui/State.svelte';
  import Link from './Link.svelte';

  const id = $props.id();
  let way = $state<'one' | 'table'>('one');
  let who = $state({ id: '', name: '', number: '' });
  let csv = $state('id,name,number,from,until,roles\n');
  let common = $state({ like: '', roles: '', from: '', until: '', batch: '' });
  let aloud = $state(false);
  let because = $state('');
  let looked = $state.raw<Schemas['Passage']>();
  let done = $state.raw<Schemas['Passage']>();
  let error = $state('');
  let busy = $state(false);

  const list = (s: string) => s.split(/[\s,;]+/).filter(Boolean);
  const text = (s: string) => s.trim() || undefined;
  async function submit(e: SubmitEvent) {
    e.preventDefault();
    busy = true;
    error = '';
    const body = {
      ...(way === 'one' ? { people: [{ id: who.id.trim(), name: text(who.name), number: text(who.number) }] } : { csv }),
      like: text(common.like),
      roles: list(common.roles),
      from: text(common.from),
      until: text(common.until),
      batch: text(common.batch),
      aloud,
      because,
    };
    try {
      if (!looked) looked = await ask(api.POST('/api/users/join', { body: { ...body, look: true } }));
      else done = await ask(api.POST('/api/users/join', { body }));
    } catch (e) {
      error = (e as Error).message;
    } finally {
      busy = false;
    }
  }
  async function open(e: Event) {
    const file = (e.currentTarget as HTMLInputElement).files?.[0];
    if (file) csv = await file.text();
    looked = undefined;
  }
  const refused = $derived(looked?.lines?.filter((l) => l.outcome === 'refused') ?? []);
  const joining = $derived((looked?.lines?.length ?? 0) - refused.length);
</script>

{#if done}
  <h1>{count(joining, 'person joins', 'people join')}: {done.words}.</h1>
  {#if done.round.id}<p class="sub"><a use:link href="/rounds/{done.round.id}">To round {done.round.id}</a></p>{/if}
  {#each done.links ?? [] as l (l.handover.id)}<Link linked={l} />{/each}
  {#if done.handovers.length && !done.links?.length}<p>
      <a use:link href="/handovers?batch={encodeURIComponent(done.handovers[0].batch ?? '')}"
        >{count(done.handovers.length, 'handover', 'handovers')} of {done.handovers[0].batch}</a>
    </p>{/if}
{:else}
  <h1>Who joins?</h1>
  <p class="sub">
    They are declared, brought to the targets on their first day, and each gets a password that is handed over once. Those who have left
    come back.
  </p>
  <form onsubmit={submit} oninput={() => (looked = undefined)} class="flex max-w-3xl flex-col gap-3">
    <div class="flex gap-6" role="radiogroup" aria-label="How many">
      <label><input type="radio" bind:group={way} value="one" /> One person</label>
      <label><input type="radio" bind:group={way} value="table" /> A table</label>
    </div>
    {#if way === 'one'}
      <div class="flex flex-wrap gap-6">
        <div><Label for="{id}id">ID</Label><Input id="{id}id" bind:value={who.id} required placeholder="runa.dahl" /></div>
        <div><Label for="{id}name">Full name</Label><Input id="{id}name" bind:value={who.name} required placeholder="Rúna Dahl" /></div>
        <div><Label for="{id}number">Number</Label><Input id="{id}number" bind:value={who.number} placeholder="1301" /></div>
      </div>
    {:else}
      <Label for="{id}csv">A table with a column for each field</Label>
      <textarea id="{id}csv" rows="6" bind:value={csv} class="name border-rule bg-sheet w-full border p-2"></textarea>
      <input type="file" accept=".csv,text/csv" aria-label="A file with the table" onchange={open} />
    {/if}
    <div class="flex flex-wrap gap-6">
      <div><Label for="{id}like">With the roles of</Label><Input id="{id}like" bind:value={common.like} placeholder="marit.fell" /></div>
      <div><Label for="{id}roles">Roles beside those</Label><Input id="{id}roles" bind:value={common.roles} placeholder="deck-crew" /></div>
      <div><Label for="{id}from">First day</Label><Input id="{id}from" type="date" bind:value={common.from} /></div>
      <div><Label for="{id}until">Last day</Label><Input id="{id}until" type="date" bind:value={common.until} /></div>
      <div><Label for="{id}batch">Handed over as</Label><Input id="{id}batch" bind:value={common.batch} placeholder="spring-crew" /></div>
    </div>
    <Checkbox bind:checked={aloud}>Passwords that are easy to read out on a telephone</Checkbox>
    <div>
      <Label for="{id}because">Because</Label><Input
        id="{id}because"
        bind:value={because}
        required
        maxlength={500}
        placeholder="why, for those who read the record" />
    </div>
    {#if refused.length}
      <Grid label="Refused" head={['Line', 'User', 'Outcome', 'Words']}>
        {#each refused as l, i (i)}<Row
            ><Cell>{l.line ?? ''}</Cell><Cell name>{l.user}</Cell><Cell><State word={l.outcome} /></Cell><Cell wide>{l.words}</Cell></Row
          >{/each}
      </Grid>
    {/if}
    {#if looked && joining}<Moves moves={looked.meaning.moves} people={looked.meaning.people} />{/if}
    {#if error}<p class="text-barn m-0" role="alert">{error}</p>{/if}
    <div>
      <Button type="submit" disabled={busy || (!!looked && !joining)} class="bg-ink text-paper rounded"
        >{looked ? `Let ${count(joining, 'person', 'people')} join` : 'See what it means'}</Button>
    </div>
  </form>
{/if}
