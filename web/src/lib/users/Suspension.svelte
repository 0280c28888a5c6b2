<!-- Cutting a person off, what became of each account, live, and letting them in again. -->
<script lang="ts">
  import { Button, Checkbox } from 'flowbite-svelte';
  import type { Snippet } from 'svelte';
  import { api, ask, type Schemas } from '../api/client';
  import { link, router } from '../router.svelte';
  import { count, tally, when } from '../words';
  import Because from '../ui/Because.svelte';
  import Cell from '../ui/Cell.svelte';
  import Grid from '../ui/Grid.svelte';
  import Row from '../ui/Row.svelte';
  import State from '../ui/State.svelte';
  import Link from './Link.svelte';

  let { user, name, changed, children }: { user: string; name: string; changed: () => void; children?: Snippet } = $props();
  let last = $state.raw<Schemas['Suspension']>();
  let cutting = $state(router.query.has('cut')); // asked for from anywhere: see Find
  let restoring = $state(false);
  let security = $state(false);
  let although = $state(false);
  let said = $state('');
  let linked = $state.raw<Schemas['Linked']>();

  const inForce = $derived(last?.state === 'in force');
  const open = $derived(last?.accounts.filter((a) => a.state === 'still open' || a.state === 'waiting').length ?? 0);
  const spared = $derived(last?.accounts.some((a) => a.state === 'not touched') ?? false);
  const there = $derived(last?.accounts.filter((a) => a.state !== 'not there').length ?? 0);
  const going = $derived(inForce && (open > 0 || (!last?.revision && !last?.undeclared)));

  async function look() {
    const list = await ask(api.GET('/api/suspensions', { params: { query: { user, size: 1 } } }));
    if (!list.items.length) return;
    const was = last && `${last.state}${last.revision}${Object.entries(last.tally)}`;
    last = list.items[0];
    if (was && was !== `${last.state}${last.revision}${Object.entries(last.tally)}`) changed();
  }
  $effect(() => {
    look().catch(() => {});
  });
  $effect(() => {
    if (!going) return;
    const timer = setInterval(() => look().catch(() => {}), 700);
    return () => clearInterval(timer);
  });

  async function cut(because: string) {
    const out = await ask(api.POST('/api/suspensions', { body: { users: [user], because, security, 'although-last': although } }));
    last = out.items[0];
    said = '';
    await look();
  }
  async function restore(because: string) {
    const out = await ask(api.POST('/api/users/{id}/restore', { params: { path: { id: user } }, body: { because } }));
    said = out.words;
    linked = out.link;
    last = out.suspension;
    changed();
    if (out.round.state === 'running') opened(out.round.id);
  }
  /** opened follows the round that opens the accounts, and says how it ended. */
  async function opened(id: number) {
    for (;;) {
      await new Promise((f) => setTimeout(f, 400));
      const r = await ask(api.GET('/api/rounds/{id}', { params: { path: { id } } }));
      if (!r['ended-at']) continue;
      said = `round ${id} is ${r.state}: ${tally(r.outcomes)}`;
      return changed();
    }
  }
  function key(e: KeyboardEvent) {
    const t = e.target as HTMLElement;
    if (e.key !== 'x' || e.ctrlKey || e.metaKey || e.altKey || /^(INPUT|TEXTAREA|SELECT)$/.test(t.tagName) || inForce || cutting) return;
    e.preventDefault();
    cutting = true;
  }
</script>

<svelte:window onkeydown={key} />

<p class="mb-6 flex flex-wrap items-baseline gap-4">
  {#if inForce}
    <Button class="bg-ink text-paper rounded" onclick={() => (restoring = true)}>Restore {name}</Button>
    {#if open || spared}<Button outline class="border-barn text-barn rounded border" onclick={() => (cutting = true)}>Try again now</Button
      >{/if}
  {:else}
    <Button outline class="border-barn text-barn rounded border" onclick={() => (cutting = true)} title="Key: x">Cut {name} off now</Button>
  {/if}
  {@render children?.()}
  <span role="status">{said}</span>
</p>
{#if linked}<Link {linked} />{/if}
{#if last && inForce}
  <section aria-live="polite" class="mb-8">
    <h2>
      Suspended: {last.tally['shut'] ?? 0} of {count(there, 'account is', 'accounts are')} shut{#if open}, <span class="needs"
          >{open} still open</span
        >{/if}
    </h2>
    <p class="sub">
      By {last.operator} at {when(last.at)}: <q>{last.because}</q>{#if last.security}, for security’s sake: two operators are needed to
        restore {name}{/if}.
      {#if last['asked-by']}{last['asked-by']} wants it to end; somebody else must want it too.{/if}
      {#if last.undeclared}<span class="needs">The declaration was not changed: {last.undeclared}</span>{/if}
    </p>
    {#if last.accounts.length}
      <Grid label="What became of each account" head={['Target', 'Account', 'State', 'A sign-in is', 'Sessions', 'Since', 'Words']}>
        {#each last.accounts as a (a.target + a.name)}
          <Row>
            <Cell name><a use:link href="/targets/{encodeURIComponent(a.target)}">{a.target}</a></Cell>
            <Cell name>{a.name}</Cell>
            <Cell><State word={a.state} /></Cell>
            <Cell>{a.proof ?? ''}</Cell>
            <Cell>{a.sessions ? `${a.sessions} ended` : ''}</Cell>
            <Cell>{when(a['ended-at'])}</Cell>
            <Cell wide
              >{a.words ?? ''}{#if a['due-at'] && a.tries}<br /><span class="text-soft text-sm"
                  >tried {count(a.tries, 'time', 'times')}; again by {when(a['due-at'])}, or at a sign of life</span
                >{/if}</Cell>
          </Row>
        {/each}
      </Grid>
    {:else}<p class="text-soft">No account of theirs is known.</p>{/if}
  </section>
{/if}
<Because bind:open={cutting} title="Cut {name} off, everywhere, now" verb="Cut off" act={cut}>
  {#snippet more()}<Checkbox bind:checked={security}>For security’s sake: two operators are needed to restore them, unless you do</Checkbox
    >{#if spared}<Checkbox bind:checked={although}
        >Also where it is the last account of a person that can administer the target; Hen Roost’s own login stays</Checkbox
      >{/if}{/snippet}
</Because>
<Because bind:open={restoring} title="Restore {name}: what was shut is opened again" verb="Restore" act={restore} />
