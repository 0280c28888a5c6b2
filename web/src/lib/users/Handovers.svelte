<!-- Credentials that wait for their people, or waited: a table for a page of its own, or of one person's. -->
<script lang="ts">
  import { Button } from 'flowbite-svelte';
  import { api, ask, type Schemas } from '../api/client';
  import { afresh, count, when } from '../words';
  import Await from '../ui/Await.svelte';
  import Because from '../ui/Because.svelte';
  import Cell from '../ui/Cell.svelte';
  import Grid from '../ui/Grid.svelte';
  import Row from '../ui/Row.svelte';
  import State from '../ui/State.svelte';
  import Who from '../ui/Who.svelte';
  import Link from './Link.svelte';
  import Act from '../ui/Act.svelte';

  type Only = Schemas['Handover']['state'];
  let {
    user,
    batch,
    only,
    mark = 0,
    size = 20,
    found,
  }: { user?: string; batch?: string; only?: Only; mark?: number; size?: number; found?: (n: number) => void } = $props();
  let own = $state(0);
  let befores = $state<number[]>([]);
  const list = $derived(
    afresh([mark, own], () =>
      ask(api.GET('/api/handovers', { params: { query: { user, batch, state: only, before: befores.at(-1), size } } })),
    ),
  );
  let linked = $state.raw<Schemas['Linked']>();
  let shown = $state.raw<Schemas['Shown']>();
  let withdrawing = $state(false);
  let one = $state.raw<Schemas['Handover']>();
  let said = $state('');

  $effect(() => {
    list.then((l) => found?.(l.items.length)).catch(() => {});
  });
  const path = (h: Schemas['Handover']) => ({ params: { path: { id: h.id } } });
  async function does(what: () => Promise<void>) {
    said = '';
    try {
      await what();
    } catch (e) {
      said = (e as Error).message;
    }
    own++;
  }
  const link = (h: Schemas['Handover']) => does(async () => void (linked = await ask(api.POST('/api/handovers/{id}/link', path(h)))));
  const show = (h: Schemas['Handover']) => does(async () => void (shown = await ask(api.POST('/api/handovers/{id}/show', path(h)))));
  async function withdraw(because: string) {
    await ask(api.POST('/api/handovers/{id}/withdraw', { ...path(one!), body: { because } }));
    own++;
  }
  const set = (h: Schemas['Handover']) => h.accounts.filter((a) => a.state !== 'not set' && a.state !== 'waiting').length;
  const unset = (h: Schemas['Handover']) => h.accounts.filter((a) => a.state === 'not set');
</script>

{#if said}<p class="text-barn" role="alert">{said}</p>{/if}
{#if linked}<Link {linked} />{/if}
{#if shown}
  <div class="border-rule bg-sheet mb-4 border p-4" role="status">
    <p class="m-0">The {shown.what} of {shown.name}, shown this once; the record names you:</p>
    <p class="name m-0 text-lg select-all wrap-anywhere whitespace-pre-wrap">{shown.value}</p>
    <Act soft onclick={() => (shown = undefined)}>Close</Act>
  </div>
{/if}
<Await ask={list}>
  {#snippet children(l)}
    {#if l.items.length}
      <Grid label="Handovers" head={[...(user ? [] : ['Who']), 'What', 'State', 'Set on', 'Made', 'Waits until', 'By', 'Words', '']}>
        {#each l.items as h (h.id)}
          <Row>
            {#if !user}<Cell><Who id={h.user} name={h.name} /></Cell>{/if}
            <Cell
              >{h.what}{#if h.batch}<span class="text-soft"> · {h.batch}</span>{/if}</Cell>
            <Cell><State word={h.state} /></Cell>
            <Cell>{h.accounts.length ? `${set(h)} of ${count(h.accounts.length, 'account', 'accounts')}` : 'no account yet'}</Cell>
            <Cell>{when(h['made-at'])}</Cell>
            <Cell>{h.state === 'waiting' ? when(h['expires-at']) : ''}</Cell>
            <Cell>{h.operator}</Cell>
            <Cell wide
              >{[h['ended-by'], h.tries ? count(h.tries, 'wrong code', 'wrong codes') : '']
                .filter(Boolean)
                .join('; ')}{#each unset(h) as a (a.target + a.name)}<br /><span class="text-barn">{a.target}: {a.words}</span
                >{/each}</Cell>
            <Cell
              >{#if h.state === 'made' || h.state === 'waiting'}
                <Button size="xs" outline class="border-rule rounded border" onclick={() => link(h)}>New link</Button>
                {#if h.state === 'waiting'}<Button size="xs" outline class="border-rule rounded border" onclick={() => show(h)}
                    >Show to me</Button
                  >{/if}
                <Button
                  size="xs"
                  outline
                  class="border-rule rounded border"
                  onclick={() => {
                    one = h;
                    withdrawing = true;
                  }}>Withdraw</Button>
              {/if}</Cell>
          </Row>
        {/each}
      </Grid>
      {#if l.next || befores.length}
        <nav class="text-soft flex items-baseline gap-4 py-3 text-sm" aria-label="Pages">
          <Act disabled={!befores.length} onclick={() => (befores = befores.slice(0, -1))}>Newer</Act>
          <Act disabled={!l.next} onclick={() => (befores = [...befores, l.next!])}>Older</Act>
        </nav>
      {/if}
    {:else}<p class="text-soft">Nothing was handed over{user ? ' to them' : ''} yet.</p>{/if}
  {/snippet}
</Await>
<Because bind:open={withdrawing} title="Withdraw it: nobody can collect it any more" verb="Withdraw" act={withdraw} />
