<script lang="ts">
  // Begin safely: a named administrator, proved, before the factory's way in is closed.
  import { Input, Label } from 'flowbite-svelte';
  import { api, ask, type Schemas } from '../api/client';
  import { link } from '../router.svelte';
  import Because from '../ui/Because.svelte';
  import Cell from '../ui/Cell.svelte';
  import Grid from '../ui/Grid.svelte';
  import Row from '../ui/Row.svelte';
  import State from '../ui/State.svelte';

  let { target, open = $bindable(false) }: { target: string; open: boolean } = $props();
  let administrator = $state('');
  let password = $state('');
  let out = $state<Schemas['Commissioned']>();

  async function act(because: string) {
    out = await ask(
      api.POST('/api/targets/{name}/commission', {
        params: { path: { name: target } },
        body: { administrator, because, ...(password ? { password } : {}) },
      }),
    );
    password = '';
  }
</script>

<Because bind:open title="Commission {target}" verb="Commission" {act}>
  {#snippet more()}
    <Label for="administrator">Administrator</Label>
    <Input id="administrator" bind:value={administrator} required placeholder="a user with superuser rights there, as odd.strand" />
    <Label for="their-password">Their password there, if they have one</Label>
    <Input
      id="their-password"
      type="password"
      autocomplete="off"
      bind:value={password}
      placeholder="left empty: the new one that waits for them" />
  {/snippet}
</Because>
{#if out}
  <section class="border-rule bg-sheet my-4 border p-4" aria-label="Commissioning">
    <h2 class="mt-0">{target} is {out.complete ? 'commissioned' : 'not commissioned yet'}.</h2>
    <Grid label="Stages" head={['Stage', 'Outcome', 'Round', 'Words']}>
      {#each out.stages as s, i (i)}
        <Row>
          <Cell>{s.what}</Cell>
          <Cell><State word={s.state} /></Cell>
          <Cell
            >{#if s.round}<a use:link href="/rounds/{s.round}">{s.round}</a>{/if}</Cell>
          <Cell wide>{s.words}</Cell>
        </Row>
      {/each}
    </Grid>
    {#each out.links ?? [] as l (l.link)}
      <p class="mt-2 text-sm">
        The administrator collects the new password at <span class="name wrap-anywhere">{l.link}</span> with the code
        <span class="name">{l.code}</span>.
      </p>
    {/each}
  </section>
{/if}
