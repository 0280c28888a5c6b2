<!-- A choice in a line of text, behind its label; its options are its content. -->
<script lang="ts" generics="T">
  import type { HTMLSelectAttributes } from 'svelte/elements';
  let { value = $bindable(), children, ...rest }: { value: T } & Omit<HTMLSelectAttributes, 'value'> = $props();
</script>

<select bind:value class="border-rule bg-sheet text-ink ml-1 rounded border py-0.5 pl-2 text-sm" {...rest}>{@render children?.()}</select>
