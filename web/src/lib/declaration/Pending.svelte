<!-- What waits for approval of the settings that guard power, of all or of one thing, and its approval. -->
<script lang="ts">
  import { Button } from 'flowbite-svelte';
  import { api, ask, Refused, type Schemas } from '../api/client';
  import { count } from '../words';
  import Password from '../ui/Password.svelte';
  import Settings from './Settings.svelte';

  let { thing = '', done }: { thing?: string; done?: () => void } = $props();
  let pending = $state.raw<Schemas['PendingSettings']>();
  let said = $state('');
  let error = $state('');
  let busy = $state(false);
  let confirming = $state(false);
  let words = $state('');

  async function load() {
    pending = await ask(api.GET('/api/revisions/pending', { params: { query: thing ? { thing: [thing] } : {} } }));
  }
  $effect(() => {
    void thing;
    load().catch((e: Error) => (error = e.message));
  });
  const items = $derived(pending?.items ?? []);
  const total = $derived(pending?.total ?? 0);
  const fresh = $derived([...new Set(items.filter((p) => p.new).map((p) => p.thing))]);

  async function approve(password?: string) {
    const r = await ask(
      api.POST('/api/revisions/approve', { body: { things: thing ? [thing] : [], revision: pending!.revision, password } }),
    );
    said = `Approved: they are in force as revision ${r.number}.`;
    error = '';
    await load();
    done?.();
  }
  async function press() {
    busy = true;
    try {
      await approve();
    } catch (e) {
      if (e instanceof Refused && e.code === 'password-needed') [words, confirming] = [e.message, true];
      else error = (e as Error).message;
    } finally {
      busy = false;
    }
  }
</script>

{#if items.length}
  <section class="bg-ochre-wash border-ochre mb-6 border-l-4 px-4 py-3" aria-label="Waiting for approval">
    <h2 class="mt-0">
      {count(total, 'change of a guarded setting waits', 'changes of guarded settings wait')} for approval
    </h2>
    <p class="mt-0">
      The old values stay in force until an operator who did not declare them approves them.{#if fresh.length}{' '}Nobody signs in to
        {fresh.length === 1 ? fresh[0] : count(fresh.length, 'new target', 'new targets')} before that.{/if}
    </p>
    <Settings {items} {total} />
    {#if error}<p class="text-barn" role="alert">{error}</p>{/if}
    <p class="mt-3 mb-0">
      <Button disabled={busy} class="bg-ink text-paper rounded" onclick={press}>Approve {count(total, 'change', 'changes')}</Button>
    </p>
  </section>
{/if}
{#if said}<p role="status">{said}</p>{/if}
<Password bind:open={confirming} {words} verb="Approve" act={approve} />
