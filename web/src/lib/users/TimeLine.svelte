<!-- A person's line of time: joined, roles, suspended, handovers, left. -->
<script lang="ts">
  import { api, ask } from '../api/client';
  import { afresh } from '../words';
  import Await from '../ui/Await.svelte';

  let { user, mark }: { user: string; mark: number } = $props();
  const line = $derived(afresh(mark, () => ask(api.GET('/api/users/{id}/time', { params: { path: { id: user } } }))));
  const dots: Record<string, string> = { past: '○', now: '●', 'to come': '▲' };
  const looks: Record<string, string> = { past: 'text-soft', now: 'text-teal', 'to come': 'text-ochre' };
</script>

<h2 class="mt-8">Line of time</h2>
<Await ask={line}>
  {#snippet children(l)}
    <ol class="border-rule m-0 ml-1.5 list-none border-l p-0">
      {#each l.items as m, i (i)}
        <li class="relative py-1 pl-5">
          <span aria-hidden="true" class="bg-paper absolute top-1 -left-[7px] text-sm {looks[m.when]}">{dots[m.when]}</span>
          <span class="name inline-block min-w-56"
            >{m.day || 'ever since'}{#if m.until}
              to {m.until}{/if}</span>
          <span class="inline-block min-w-24">{m.what}</span>
          <span class="inline-block min-w-16 {looks[m.when]}">{m.when}</span>
          <span class="wrap-anywhere" dir="auto">{m.words}</span>
        </li>
      {:else}<li class="text-soft pl-5">No day is known of them.</li>{/each}
    </ol>
  {/snippet}
</Await>
