<!-- A field in a line of text, behind its label. -->
<script lang="ts">
  import type { HTMLInputAttributes } from 'svelte/elements';
  let { value = $bindable(), class: more = '', ...rest }: HTMLInputAttributes = $props();
</script>

<input bind:value class="border-rule bg-sheet text-ink mx-1 rounded border px-2 py-0.5 {more}" {...rest} />
