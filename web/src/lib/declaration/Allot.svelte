<!-- Users and groups whose roles name a range of numbers and who have none yet: what they would get, and giving it. -->
<script lang="ts">
  import { Button } from 'flowbite-svelte';
  import { api, ask, type Schemas } from '../api/client';
  import { router } from '../router.svelte';
  import { count } from '../words';
  import Because from '../ui/Because.svelte';
  import Cell from '../ui/Cell.svelte';
  import Grid from '../ui/Grid.svelte';
  import Row from '../ui/Row.svelte';

  let lines = $state.raw<Schemas['AllotLine'][]>([]);
  let asking = $state(false);
  const fresh = $derived(lines.filter((l) => l.number));
  // Whoever may not draft is not asked anything.
  ask(api.POST('/api/numbers', { body: { look: true } })).then(
    (a) => (lines = a.lines),
    () => {},
  );
  async function allot(because: string) {
    const a = await ask(api.POST('/api/numbers', { body: { because } }));
    router.go(`/declaration/${a.revision.number}`);
  }
</script>

{#if lines.length}
  <h2 class="mt-6">Numbers</h2>
  <p class="my-1">
    {fresh.length
      ? `${count(fresh.length, 'user or group', 'users and groups')} without a number can have one out of a role’s range, which nobody has anywhere.`
      : 'Some have no number yet.'}
  </p>
  <Grid label="Numbers" head={['Name', { figure: 'Number' }, 'Note']}>
    {#each lines.slice(0, 12) as l (l.section + l.name)}
      <Row>
        <Cell><span class="name">{l.name}</span> <span class="text-soft">{l.section === 'groups' ? 'group' : 'user'}</span></Cell>
        <Cell figure>{l.number ?? ''}</Cell>
        <Cell wide>{l.words || `of ${l.role}`}</Cell>
      </Row>
    {/each}
  </Grid>
  {#if lines.length > 12}<p class="text-soft">and {lines.length - 12} more</p>{/if}
  {#if fresh.length}<Button class="bg-ink text-paper mt-3 rounded" onclick={() => (asking = true)}>Allot numbers</Button>{/if}
{/if}
<Because bind:open={asking} title="Declare {count(fresh.length, 'number', 'numbers')}" verb="Allot" act={allot} />
