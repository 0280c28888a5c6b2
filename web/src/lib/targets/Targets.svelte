<script lang="ts">
  import { Button } from 'flowbite-svelte';
  import { api, ask } from '../api/client';
  import { count } from '../words';
  import Await from '../ui/Await.svelte';
  import TargetTable from './TargetTable.svelte';

  let targets = $state.raw(ask(api.GET('/api/targets')));
  let busy = $state(false);
  let said = $state('');

  async function survey() {
    busy = true;
    said = '';
    try {
      const results = await ask(api.POST('/api/surveys', { body: {} }));
      const answered = results.filter((r) => r.state === 'surveyed').length;
      said = `${answered} of ${count(results.length, 'target', 'targets')} answered; ${count(results.reduce((n, r) => n + r.fresh, 0), 'new finding', 'new findings')}.`;
    } catch (e) {
      said = (e as Error).message;
    } finally {
      busy = false;
      targets = ask(api.GET('/api/targets'));
    }
  }
</script>

<Await ask={targets}>
  {#snippet children(list)}
    <h1>{count(list.length, 'target', 'targets')}, {list.filter((t) => t.state === 'surveyed' && !t.total).length} as declared.</h1>
    <p class="sub">A survey reads every target once and changes nothing there.</p>
    <p class="mb-6 flex items-baseline gap-4">
      <Button class="bg-ink text-paper rounded" disabled={busy} onclick={survey}>{busy ? 'Surveying…' : 'Survey all'}</Button>
      <span role="status">{said}</span>
    </p>
    <TargetTable targets={list} />
  {/snippet}
</Await>
