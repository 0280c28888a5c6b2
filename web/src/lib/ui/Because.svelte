<!-- Asks for the reason that everything large requires. -->
<script lang="ts">
  import { Input, Label } from 'flowbite-svelte';
  import type { Snippet } from 'svelte';
  import Asking from './Asking.svelte';
  let {
    open = $bindable(false),
    title,
    verb,
    act,
    more,
  }: { open: boolean; title: string; verb: string; act: (because: string) => Promise<void>; more?: Snippet } = $props();
  let because = $state('');
  const id = $props.id();
</script>

<Asking bind:open {title} {verb} act={() => act(because)}>
  <Label for={id}>Because</Label>
  <Input {id} bind:value={because} required maxlength={500} placeholder="why, for those who read the record" />
  {@render more?.()}
</Asking>
