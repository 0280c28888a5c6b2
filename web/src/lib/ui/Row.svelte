<!-- One line of a Grid. -->
<script lang="ts">
  import { TableBodyRow } from 'flowbite-svelte';
  import type { Snippet } from 'svelte';
  let { children }: { children: Snippet } = $props();
</script>

<TableBodyRow class="border-rule border-b bg-transparent">{@render children()}</TableBodyRow>
