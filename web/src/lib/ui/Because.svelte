<!-- Asks for the reason that everything large requires. -->
<script lang="ts">
  import { Button, Input, Label, Modal } from 'flowbite-svelte';
  import type { Snippet } from 'svelte';
  let {
    open = $bindable(false),
    title,
    verb,
    act,
    more,
  }: { open: boolean; title: string; verb: string; act: (because: string) => Promise<void>; more?: Snippet } = $props();
  let because = $state('');
  let error = $state('');
  let busy = $state(false);
  const id = $props.id();

  async function submit(e: SubmitEvent) {
    e.preventDefault();
    busy = true;
    error = '';
    try {
      await act(because);
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
    <Label for={id}>Because</Label>
    <Input {id} bind:value={because} required maxlength={500} placeholder="why, for those who read the record" />
    {@render more?.()}
    {#if error}<p class="text-barn" role="alert">{error}</p>{/if}
    <div><Button type="submit" disabled={busy} class="bg-ink text-paper rounded">{verb}</Button></div>
  </form>
</Modal>
