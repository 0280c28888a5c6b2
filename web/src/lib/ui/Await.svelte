<!-- Shows what was asked for, or why it could not be had. Nothing blinks while a page is asked for anew. -->
<script lang="ts" generics="T">
  import type { Snippet } from 'svelte';
  let { ask, children }: { ask: Promise<T>; children: Snippet<[T]> } = $props();
  let got = $state.raw<{ value: T } | undefined>();
  let error = $state('');
  $effect(() => {
    let current = true;
    ask.then(
      (value) => current && ((got = { value }), (error = '')),
      (e: Error) => current && (error = e.message),
    );
    return () => (current = false);
  });
</script>

{#if error}
  <p class="bg-barn-wash border-barn border-l-4 px-4 py-2" role="alert">{error}</p>
{/if}
{#if got}
  {@render children(got.value)}
{:else if !error}
  <p class="text-soft" role="status">Looking…</p>
{/if}
