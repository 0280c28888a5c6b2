<!-- Moving to another work, or leaving: looked at first, target by target, then declared. -->
<script lang="ts">
  import { Button, Checkbox, Input, Label, Modal } from 'flowbite-svelte';
  import { api, ask, type Schemas } from '../api/client';
  import { router } from '../router.svelte';
  import Cell from '../ui/Cell.svelte';
  import Grid from '../ui/Grid.svelte';
  import Row from '../ui/Row.svelte';

  let { user, name, changed }: { user: string; name: string; changed: () => void } = $props();
  const id = $props.id();
  let open = $state(false);
  let way = $state<'move' | 'leave'>('move');
  let to = $state('');
  let keep = $state('');
  let on = $state('');
  let overlap = $state(0);
  let atOnce = $state(false);
  let remove = $state(false);
  let handTo = $state('');
  let because = $state('');
  let looked = $state.raw<Schemas['Passage']>();
  let error = $state('');
  let said = $state('');
  let busy = $state(false);

  function begin(w: typeof way) {
    way = w;
    looked = undefined;
    error = '';
    open = true;
  }
  const words = (s: string) =>
    s
      .split(/[\s,;]+/)
      .map((x) => x.trim())
      .filter(Boolean);
  async function pass(look: boolean) {
    const params = { path: { id: user } };
    return way === 'move'
      ? ask(
          api.POST('/api/users/{id}/move', {
            params,
            body: { to: words(to), keep: words(keep), on: on || undefined, overlap: overlap || 0, because, look },
          }),
        )
      : ask(
          api.POST('/api/users/{id}/leave', {
            params,
            body: {
              on: atOnce ? undefined : on || undefined,
              'at-once': atOnce,
              remove: atOnce && remove,
              'hand-to': handTo.trim() || undefined,
              because,
              look,
            },
          }),
        );
  }
  async function submit(e: SubmitEvent) {
    e.preventDefault();
    busy = true;
    error = '';
    try {
      if (!looked) {
        looked = await pass(true);
        return;
      }
      const done = await pass(false);
      said = done.words;
      open = false;
      changed();
      if (done.round.id) router.go(`/rounds/${done.round.id}`);
    } catch (e) {
      error = (e as Error).message;
      looked = undefined;
    } finally {
      busy = false;
    }
  }
</script>

<Button outline class="border-rule rounded border" onclick={() => begin('move')}>Move</Button>
<Button outline class="border-rule rounded border" onclick={() => begin('leave')}>Leave</Button>
<span role="status">{said}</span>
<Modal
  title={way === 'move' ? `What ${name} does from a day on` : `The last day of ${name}`}
  bind:open
  size="lg"
  class="border-rule border">
  <form onsubmit={submit} oninput={() => (looked = undefined)} class="flex flex-col gap-3">
    {#if way === 'move'}
      <Label for="{id}to">Roles that begin</Label>
      <Input id="{id}to" bind:value={to} required placeholder="ticket-clerk" />
      <Label for="{id}keep">Roles that go on; all others that were given by name end</Label>
      <Input id="{id}keep" bind:value={keep} />
      <div class="flex gap-6">
        <div><Label for="{id}on">On</Label><Input id="{id}on" type="date" bind:value={on} /></div>
        <div>
          <Label for="{id}overlap">Days that the old roles go on beside</Label><Input
            id="{id}overlap"
            type="number"
            min="0"
            max="366"
            bind:value={overlap} />
        </div>
      </div>
    {:else}
      <div class="flex items-end gap-6">
        <div><Label for="{id}on">Last day; left out: today</Label><Input id="{id}on" type="date" bind:value={on} disabled={atOnce} /></div>
        <Checkbox bind:checked={atOnce}>Shut the accounts now</Checkbox>
        <Checkbox bind:checked={remove} disabled={!atOnce}>Remove them</Checkbox>
      </div>
      <Label for="{id}hand">Who looks after what {name} looked after</Label>
      <Input id="{id}hand" bind:value={handTo} placeholder="odd.strand" />
    {/if}
    <Label for="{id}because">Because</Label>
    <Input id="{id}because" bind:value={because} required maxlength={500} placeholder="why, for those who read the record" />
    {#if looked}
      <p class="m-0">
        {#if looked.meaning.people}So it is today:{:else}Not yet today, but by {looked.by}, it is so:{/if}
      </p>
      <Grid label="What it means" head={['Target', 'Keeps', 'Gains', 'Loses']}>
        {#each looked.sides as s (s.target)}
          <Row
            ><Cell name>{s.target}</Cell><Cell wide>{s.keeps.join(', ')}</Cell><Cell wide>{s.gains.join(', ')}</Cell><Cell wide
              >{s.loses.join(', ')}</Cell
            ></Row>
        {/each}
      </Grid>
    {/if}
    {#if error}<p class="text-barn m-0" role="alert">{error}</p>{/if}
    <div>
      <Button type="submit" disabled={busy} class="bg-ink text-paper rounded">{looked ? 'Declare it' : 'See what it means'}</Button>
    </div>
  </form>
</Modal>
