<!-- A button that reads as words in a text. Soft: it is not what the page is for. -->
<script lang="ts">
  import type { HTMLButtonAttributes } from 'svelte/elements';
  let { soft = false, children, ...rest }: { soft?: boolean } & HTMLButtonAttributes = $props();
</script>

<button
  type="button"
  class="cursor-pointer underline disabled:cursor-default disabled:no-underline disabled:opacity-40 {soft ? 'text-soft text-sm' : ''}"
  {...rest}>{@render children?.()}</button>
