<script lang="ts">
  // Who is in a set of any kind: a group, a right, a pool of seats.
  import { api, ask } from '../api/client';
  import Await from '../ui/Await.svelte';
  import Pager from '../ui/Pager.svelte';
  import Who from '../ui/Who.svelte';

  let { target, kind, set, of }: { target: string; kind: string; set: string; of: 'account' | 'group' } = $props();
  const size = 50;
  let from = $state(0);
  const members = $derived(
    ask(
      api.GET('/api/targets/{name}/objects/{kind}/members', {
        params: { path: { name: target, kind }, query: { set, of, from, size } },
      }),
    ),
  );
</script>

<Await ask={members}>
  {#snippet children(p)}
    <ul class="columns-2 gap-8 py-1 text-sm md:columns-3">
      {#each p.items as m (m.name)}
        <li class="break-inside-avoid">
          <span class="name">{m.name}</span>
          {#if m.user}<span class="text-soft"> · <Who id={m.user} name={m['user-name']} /></span>{/if}
        </li>
      {/each}
    </ul>
    <Pager {from} {size} total={p.total} go={(n) => (from = n)} />
  {/snippet}
</Await>
