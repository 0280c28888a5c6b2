<!-- Asks for the operator's own password anew: for what they approve themselves, since nobody else could. -->
<script lang="ts">
  import { Button, Input, Label, Modal } from 'flowbite-svelte';
  let {
    open = $bindable(false),
    words,
    verb,
    act,
  }: { open: boolean; words: string; verb: string; act: (password: string) => Promise<void> } = $props();
  let password = $state('');
  let error = $state('');
  let busy = $state(false);
  const id = $props.id();

  async function submit(e: SubmitEvent) {
    e.preventDefault();
    busy = true;
    error = '';
    try {
      await act(password);
      open = false;
    } catch (e) {
      error = (e as Error).message;
    } finally {
      password = '';
      busy = false;
    }
  }
</script>

<Modal title="Confirm it with your password" bind:open size="sm" class="border-rule border">
  <form onsubmit={submit} class="flex flex-col gap-3">
    <p class="m-0">{words.charAt(0).toUpperCase() + words.slice(1)}.</p>
    <Label for={id}>Your password</Label>
    <Input {id} type="password" bind:value={password} required autocomplete="current-password" />
    {#if error}<p class="text-barn" role="alert">{error}</p>{/if}
    <div><Button type="submit" disabled={busy} class="bg-ink text-paper rounded">{verb}</Button></div>
  </form>
</Modal>
