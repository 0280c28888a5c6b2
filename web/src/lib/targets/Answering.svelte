<script lang="ts">
  // Which account answers when somebody signs in from an address.
  import { Button } from 'flowbite-svelte';
  import { api, ask } from '../api/client';
  import Field from '../ui/Field.svelte';

  let { target }: { target: string } = $props();
  let user = $state('');
  let address = $state('');
  let said = $state('');

  async function answer(e: Event) {
    e.preventDefault();
    try {
      const x = await ask(api.GET('/api/explain', { params: { query: { user, target, address, what: 'account' } } }));
      const s = x['sign-in']!;
      said = s.account ? `From ${s.from} the account ${s.account} answers: ${s.words}.` : `From ${s.from}: ${s.words}.`;
    } catch (e) {
      said = (e as Error).message;
    }
  }
</script>

<h2>Who answers?</h2>
<form onsubmit={answer} class="mb-2 flex flex-wrap items-baseline gap-x-4 gap-y-2">
  <label class="text-soft text-sm">when <Field bind:value={user} required placeholder="gunnar.holt" /></label>
  <label class="text-soft text-sm">signs in from <Field bind:value={address} required placeholder="10.20.3.7" /></label>
  <Button size="xs" type="submit" class="bg-ink text-paper rounded">Tell</Button>
</form>
<p role="status">{said}</p>
