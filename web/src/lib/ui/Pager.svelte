<!-- Moves through a list that the server hands out in parts. -->
<script lang="ts">
  import Act from './Act.svelte';
  let { from, size, total, go }: { from: number; size: number; total: number; go: (from: number) => void } = $props();
</script>

{#if total > size || from > 0}
  <nav class="text-soft flex items-baseline gap-4 py-3 text-sm" aria-label="Pages">
    <span>{from + 1} to {Math.min(from + size, total)} of {total}</span>
    <Act disabled={from === 0} onclick={() => go(Math.max(0, from - size))}>Earlier</Act>
    <Act disabled={from + size >= total} onclick={() => go(from + size)}>Later</Act>
  </nav>
{/if}
