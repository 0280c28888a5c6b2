<!-- A person by name, with their page behind it; never a bare id. -->
<script lang="ts">
  import { link } from '../router.svelte';
  let { id, name }: { id?: string; name?: string } = $props();
</script>

{#if id && name}<a
    use:link
    href="/users/{encodeURIComponent(id)}"
    class="underline decoration-transparent hover:decoration-current"
    dir="auto">{name}</a
  >{:else if id}<span class="name">{id}</span>{:else}<span class="text-soft">–</span>{/if}
