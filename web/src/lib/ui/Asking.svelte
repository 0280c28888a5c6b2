<!-- A dialog that asks for something, does it, and stays open with the reason when that was refused. -->
<script lang="ts">
  import { Button, Modal } from 'flowbite-svelte';
  import type { Snippet } from 'svelte';
  let {
    open = $bindable(false),
    title,
    verb,
    act,
    children,
  }: { open: boolean; title: string; verb: string; act: () => Promise<void>; children: Snippet } = $props();
  let error = $state('');
  let busy = $state(false);

  async function submit(e: SubmitEvent) {
    e.preventDefault();
    busy = true;
    error = '';
    try {
      await act();
      open = false;
    } catch (e) {
      error = (e as Error).message;
    } finally {
      busy = false;
    }
  }
</script>

<Modal {title} bind:open size="sm" class="border-rule border">
  <form onsubmit={submit} class="flex flex-col gap-3">
    {@render children()}
    {#if error}<p class="text-barn" role="alert">{error}</p>{/if}
    <div><Button type="submit" disabled={busy} class="bg-ink text-paper rounded">{verb}</Button></div>
  </form>
</Modal>
