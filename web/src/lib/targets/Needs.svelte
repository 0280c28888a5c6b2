<script lang="ts">
  // What makes the login that Hen Roost has on a target.
  import { Button } from 'flowbite-svelte';
  import { api, ask } from '../api/client';

  let { target }: { target: string } = $props();
  let lines = $state<string[]>([]);
  let said = $state('');

  async function look() {
    try {
      lines = (await ask(api.GET('/api/targets/{name}/needs', { params: { path: { name: target } } }))).lines;
    } catch (e) {
      said = (e as Error).message;
    }
  }
</script>

<h2>What our login needs</h2>
<p class="mb-3 flex items-baseline gap-4">
  <Button size="xs" class="bg-ink text-paper rounded" onclick={look}>Show</Button>
  <span role="status">{said}</span>
</p>
{#if lines.length}
  <p class="text-soft mb-2 text-sm">Carried out once by an administrator there; it may do what is declared, and no more.</p>
  <pre class="name bg-sheet border-rule overflow-x-auto border px-4 py-2 text-[13px]">{lines.join('\n')}</pre>
{/if}
