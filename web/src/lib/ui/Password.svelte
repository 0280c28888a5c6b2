<!-- Asks for the operator's own password anew: for what they approve themselves, since nobody else could. -->
<script lang="ts">
  import { Input, Label } from 'flowbite-svelte';
  import Asking from './Asking.svelte';
  let {
    open = $bindable(false),
    words,
    verb,
    act,
  }: { open: boolean; words: string; verb: string; act: (password: string) => Promise<void> } = $props();
  let password = $state('');
  const id = $props.id();
</script>

<Asking bind:open title="Confirm it with your password" {verb} act={() => act(password).finally(() => (password = ''))}>
  <p class="m-0">{words.charAt(0).toUpperCase() + words.slice(1)}.</p>
  <Label for={id}>Your password</Label>
  <Input {id} type="password" bind:value={password} required autocomplete="current-password" />
</Asking>
