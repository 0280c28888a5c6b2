<script lang="ts">
  import { Button, Input } from 'flowbite-svelte';
  import { api, ask } from '../api/client';
  import { link, router } from '../router.svelte';
  import { afresh, count } from '../words';
  import Await from '../ui/Await.svelte';
  import Pager from '../ui/Pager.svelte';
  import TargetTable from './TargetTable.svelte';

  const size = 50;
  let from = $state(0);
  let text = $state(router.query.get('text') ?? '');
  let again = $state(0);
  let busy = $state(false);
  let said = $state('');
  const targets = $derived(afresh(again, () => ask(api.GET('/api/targets', { params: { query: { text, from, size } } }))));

  async function survey() {
    busy = true;
    said = '';
    try {
      const results = await ask(api.POST('/api/surveys', { body: {} }));
      const answered = results.filter((r) => r.state === 'surveyed').length;
      said = `${answered} of ${count(results.length, 'target', 'targets')} answered; ${count(
        results.reduce((n, r) => n + r.fresh, 0),
        'new finding',
        'new findings',
      )}.`;
    } catch (e) {
      said = (e as Error).message;
    } finally {
      busy = false;
      again++;
    }
  }
</script>

<Await ask={targets}>
  {#snippet children(p)}
    <h1>{count(p.total, 'target', 'targets')}, {p.declared} as declared.</h1>
    <p class="sub">A survey reads every target once and changes nothing there.</p>
    <p class="mb-4 flex items-baseline gap-4">
      <Button class="bg-ink text-paper rounded" disabled={busy} onclick={survey}>{busy ? 'Surveying…' : 'Survey all'}</Button>
      <a use:link href="/fleet">Fleets by tag</a>
      <a use:link href="/compare">Compare two</a>
      <a use:link href="/dialects">Dialects</a>
      <span role="status">{said}</span>
    </p>
    <div class="mb-4 max-w-sm">
      <Input
        size="sm"
        placeholder="part of a name or of a tag, or a whole kind"
        aria-label="Find targets"
        bind:value={text}
        oninput={() => {
          from = 0;
          router.keep({ text });
        }} />
    </div>
    <TargetTable targets={p.items} />
    <Pager {from} {size} total={p.total} go={(n) => (from = n)} />
  {/snippet}
</Await>
