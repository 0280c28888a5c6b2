<!-- Moves through a list whose pages name the next one: a page costs what is on it, however far back it is. -->
<script lang="ts">
  import Act from './Act.svelte';
  let {
    trail = $bindable(),
    size,
    shown,
    total,
    next,
  }: { trail: string[]; size: number; shown: number; total: number; next?: string } = $props();
  const from = $derived(trail.length * size);
</script>

{#if next || trail.length}
  <nav class="text-soft flex items-baseline gap-4 py-3 text-sm" aria-label="Pages">
    <span>{from + 1} to {from + shown} of {total}</span>
    <Act disabled={!trail.length} onclick={() => (trail = trail.slice(0, -1))}>Earlier</Act>
    <Act disabled={!next} onclick={() => (trail = [...trail, next!])}>Later</Act>
  </nav>
{/if}
