<script lang="ts">
  // What a target holds of one kind, with a column for each attribute that its
  // schema knows and one of the objects has; of a set who is in it.
  import { api, ask } from '../api/client';
  import { count } from '../words';
  import Await from '../ui/Await.svelte';
  import Cell from '../ui/Cell.svelte';
  import Grid from '../ui/Grid.svelte';
  import Pager from '../ui/Pager.svelte';
  import Row from '../ui/Row.svelte';
  import Members from './Members.svelte';

  type Props = { target: string; kind: string; set?: boolean; called: (attribute: string) => string };
  let { target, kind, set, called }: Props = $props();
  const size = 50;
  let from = $state(0);
  let prefix = $state('');
  let open = $state('');
  const objects = $derived(
    ask(
      api.GET('/api/targets/{name}/objects/{kind}', {
        params: { path: { name: target, kind }, query: { from, size, prefix } },
      }),
    ),
  );
  const columns = (items: { attributes: Record<string, string[]> }[]) =>
    [...new Set(items.flatMap((o) => Object.keys(o.attributes)))].sort();
  const heads = (names: string[]) => [
    kind[0].toUpperCase() + kind.slice(1),
    'Declared',
    ...(set ? ['In it'] : []),
    ...names.map(called).map((w) => w[0].toUpperCase() + w.slice(1)),
    'Note',
  ];
</script>

<label class="text-soft mb-2 block text-sm">
  begins with
  <input bind:value={prefix} oninput={() => (from = 0)} class="border-rule bg-sheet text-ink ml-1 rounded border px-2 py-0.5" />
</label>
<Await ask={objects}>
  {#snippet children(p)}
    {@const names = columns(p.items)}
    <Grid label={kind} head={heads(names)}>
      {#each p.items as o (o.name)}
        <Row>
          <Cell name>{o.name}</Cell>
          <Cell>{o.declared ? 'yes' : ''}</Cell>
          {#if set}
            <Cell>
              {#if o.members || o.groups}
                <button class="underline" aria-expanded={open === o.name} onclick={() => (open = open === o.name ? '' : o.name)}>
                  {[o.members ? count(o.members, 'account', 'accounts') : '', o.groups ? count(o.groups, 'group', 'groups') : '']
                    .filter(Boolean)
                    .join(', ')}
                </button>
                {#if open === o.name}
                  {#if o.members}<Members {target} {kind} set={o.name} of="account" />{/if}
                  {#if o.groups}<Members {target} {kind} set={o.name} of="group" />{/if}
                {/if}
              {/if}
            </Cell>
          {/if}
          {#each names as name (name)}<Cell>{(o.attributes[name] ?? []).join(', ')}</Cell>{/each}
          <Cell>{o.protected ?? ''}</Cell>
        </Row>
      {/each}
    </Grid>
    {#if !p.items.length}<p class="sub">None was seen.</p>{/if}
    <Pager {from} {size} total={p.total} go={(n) => (from = n)} />
  {/snippet}
</Await>
