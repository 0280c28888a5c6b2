<!-- Before → after. -->
<script lang="ts">
  let { before, after }: { before: string; after: string } = $props();
</script>

{#if before}<span class="from">{before}</span>{/if}
{#if before && after}<span aria-label="becomes">→</span>{/if}
{#if after}<span class="to" dir="auto">{after}</span>{:else if before}<span class="text-soft">→ nothing</span>{/if}
