<script lang="ts">
  // What a target says itself that steps would change there: of a round, or of all that was found there.
  import { Button } from 'flowbite-svelte';
  import { api, ask, type Schemas } from '../api/client';
  import { count } from '../words';

  let { target, round }: { target: string; round?: number } = $props();
  let found = $state<Schemas['Difference']>();
  let said = $state('');
  let busy = $state(false);

  async function look() {
    busy = true;
    said = '';
    try {
      found = round
        ? await ask(api.POST('/api/rounds/{id}/difference', { params: { path: { id: round } }, body: { target } }))
        : await ask(api.POST('/api/targets/{name}/difference', { params: { path: { name: target } } }));
    } catch (e) {
      found = undefined;
      said = (e as Error).message;
    } finally {
      busy = false;
    }
  }
  const shades: Record<string, string> = { '+': 'text-teal', '-': 'text-barn', '~': 'text-ochre' };
</script>

<p class="mb-2 flex flex-wrap items-baseline gap-3 text-sm">
  <Button size="xs" outline class="border-rule rounded border" disabled={busy} onclick={look}
    >{busy ? 'Asking…' : `Ask ${target} what would change`}</Button>
  <span role="status" class="wrap-anywhere"
    >{said}{#if found && !found.lines.length}Nothing would change, it says.{:else if found}{count(found.steps, 'step', 'steps')}, in its own
      words; nothing was changed.{/if}</span>
</p>
{#if found?.lines.length}
  <pre
    class="border-rule bg-sheet mb-3 max-h-96 overflow-auto border p-3 font-mono text-[13px]"
    aria-label="Difference">{#each found.lines as line, i (i)}<span class={shades[line[0]] ?? ''}>{line}</span>{'\n'}{/each}</pre>
{/if}
