<script lang="ts">
  import Act from '../ui/Act.svelte';
  // What became of one object: when it came, changed and went, the newest first.
  import { api, ask, type Schemas } from '../api/client';
  import { when } from '../words';
  import Await from '../ui/Await.svelte';
  import Change from '../ui/Change.svelte';

  type Props = { target: string; kind: string; name: string; called: (attribute: string) => string };
  let { target, kind, name, called }: Props = $props();
  let before = $state('');
  const history = $derived(
    ask(
      api.GET('/api/targets/{name}/objects/{kind}/history', {
        params: { path: { name: target, kind }, query: { object: name, size: 12, ...(before ? { before } : {}) } },
      }),
    ),
  );
  const some = (names: string[], n: number) => names.slice(0, 5).join(', ') + (n > 5 ? ` and ${n - 5} more` : '');
  const words = (p: Schemas['Past']) =>
    [
      p.state === 'changed' ? '' : p.state,
      p['came-n'] ? `${some(p.came, p['came-n'])} came in` : '',
      p['left-n'] ? `${some(p.left, p['left-n'])} left` : '',
    ].filter(Boolean);
</script>

<section
  {@attach (e) => e.scrollIntoView({ block: 'center' })}
  class="border-rule bg-sheet my-3 border p-4"
  aria-label="What became of {name}">
  <h2 class="mt-0">What became of <span class="name">{name}</span></h2>
  <Await ask={history}>
    {#snippet children(h)}
      {#each h.items as p (p.at)}
        <div class="border-rule border-b py-1.5 last:border-b-0">
          <time class="text-soft mr-3 text-[13px]" datetime={p.at}>{when(p.at)}</time>
          <span dir="auto">{words(p).join('; ')}</span>
          {#if p.state === 'changed'}
            {#each p.values as v (v.attribute)}
              <span class="mr-4"
                >{called(v.attribute)}
                <Change before={v.before.join(', ')} after={v.after.join(', ')} /></span>
            {/each}
          {/if}
        </div>
      {:else}
        <p class="text-soft">Nothing earlier is known of it.</p>
      {/each}
      {#if before || h.more}<p class="mt-2 mb-0 flex gap-4 text-sm">
          {#if before}<Act onclick={() => (before = '')}>The latest</Act>{/if}
          {#if h.more}<Act onclick={() => (before = h.items[h.items.length - 1].at)}>Earlier</Act>{/if}
        </p>{/if}
    {/snippet}
  </Await>
</section>
