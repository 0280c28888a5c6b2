<!-- One cell of a Grid. -->
<script lang="ts">
  import { TableBodyCell } from 'flowbite-svelte';
  import type { Snippet } from 'svelte';
  let {
    children,
    figure = false,
    name = false,
    wide = false,
  }: { children?: Snippet; figure?: boolean; name?: boolean; wide?: boolean } = $props();
</script>

<TableBodyCell
  class="px-0 py-1.5 align-top font-normal {figure ? 'pr-6 text-right' : 'pr-4'} {name ? 'name' : ''} {wide
    ? 'whitespace-normal min-w-56'
    : 'whitespace-nowrap'}">{@render children?.()}</TableBodyCell>
