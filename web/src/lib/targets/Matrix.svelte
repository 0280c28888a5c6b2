<script lang="ts">
  import Act from '../ui/Act.svelte';
  import Choice from '../ui/Choice.svelte';
  import Field from '../ui/Field.svelte';
  // Who is in which sets of a kind: a line for each member, a column for each set.
  import { api, ask } from '../api/client';
  import Await from '../ui/Await.svelte';
  import Pager from '../ui/Pager.svelte';
  import Who from '../ui/Who.svelte';

  let { target, kind }: { target: string; kind: string } = $props();
  const across = 20; // sets that the service tells at once
  let of = $state<'account' | 'group'>('account');
  let sets = $state('');
  let prefix = $state('');
  let from = $state(0);
  let behind = $state<string[]>([]); // where each page of members began
  const matrix = $derived(
    ask(
      api.GET('/api/targets/{name}/objects/{kind}/matrix', {
        params: { path: { name: target, kind }, query: { of, sets, prefix, from, after: behind.at(-1) ?? '', size: 50 } },
      }),
    ),
  );
  const shapes: Record<string, [string, string]> = {
    'as declared': ['●', 'text-teal'],
    found: ['▲', 'text-ochre'],
    missing: ['■', 'text-barn'],
    'comes along': ['○', 'text-soft'],
  };
  function anew() {
    from = 0;
    behind = [];
  }
</script>

<div class="text-soft mb-2 flex flex-wrap items-baseline gap-x-6 gap-y-1 text-sm">
  <label
    >{kind}s begin with
    <Field bind:value={sets} oninput={anew} class="w-32" /></label>
  <label>members begin with <Field bind:value={prefix} oninput={anew} class="w-32" /></label>
  <label
    >members are <Choice bind:value={of} onchange={anew}>
      <option value="account">accounts</option><option value="group">groups</option>
    </Choice></label>
  <span
    ><span class="text-teal">●</span> as declared <span class="text-ochre ml-3">▲</span> found, and nothing known asks for it
    <span class="text-barn ml-3">■</span> missing
    {#if kind === 'right'}<span class="ml-3">○</span> comes along with a wider one that is asked for{/if}</span>
</div>
<Await ask={matrix}>
  {#snippet children(m)}
    {#if m.lines.length}
      <div class="mt-4 overflow-x-auto">
        <table class="border-collapse text-[14.5px]" aria-label="Who is in what">
          <thead>
            <tr class="border-rule border-b align-bottom">
              <th scope="col" class="text-soft pr-6 pb-1.5 text-left text-[13px] font-medium">Member</th>
              {#each m.sets as s (s.name)}
                <th scope="col" class="px-1 pb-1.5 font-normal">
                  <span class="name inline-block max-h-80 truncate [writing-mode:vertical-rl] rotate-180 text-[13px]" title={s.name}
                    >{s.name}</span>
                </th>
              {/each}
            </tr>
          </thead>
          <tbody>
            {#each m.lines as x (x.name)}
              <tr class="border-rule border-b">
                <th scope="row" class="py-1 pr-6 text-left font-normal whitespace-nowrap">
                  <span class="name">{x.name}</span>
                  {#if x.user}<span class="text-soft"> · <Who id={x.user} name={x['user-name']} /></span>{/if}
                </th>
                {#each m.sets as s (s.name)}
                  {@const word = x.stands[s.name]}
                  <td class="px-1 text-center" title={word ? `${x.name}, ${s.name}: ${word}` : undefined}>
                    {#if word}<span class={shapes[word][1]} aria-hidden="true">{shapes[word][0]}</span><span class="sr-only">{word}</span
                      >{/if}
                  </td>
                {/each}
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
    {:else}<p class="sub">Nobody is in any of them.</p>{/if}
    {#if behind.length || m.more}
      <nav class="text-soft flex gap-4 py-3 text-sm" aria-label="Members">
        <Act disabled={!behind.length} onclick={() => (behind = behind.slice(0, -1))}>Earlier members</Act>
        <Act disabled={!m.more} onclick={() => (behind = [...behind, m.lines[m.lines.length - 1].name])}>Later members</Act>
      </nav>
    {/if}
    <Pager {from} size={across} total={m.total} go={(n) => ((from = n), (behind = []))} />
  {/snippet}
</Await>
