<script lang="ts">
  import Field from '../ui/Field.svelte';
  // What a target holds of one kind, with a column for each attribute that its
  // schema knows and one of the objects has; of a set who is in it, of a pool how
  // many seats are taken, and what stands within another behind that.
  import { api, ask, type Schemas } from '../api/client';
  import { count } from '../words';
  import Await from '../ui/Await.svelte';
  import Cell from '../ui/Cell.svelte';
  import Grid from '../ui/Grid.svelte';
  import Trail from '../ui/Trail.svelte';
  import Row from '../ui/Row.svelte';
  import History from './History.svelte';
  import Matrix from './Matrix.svelte';
  import Members from './Members.svelte';
  import { tree } from './tree';

  type Props = { target: string; kind: string; set?: boolean; called: (attribute: string) => string };
  let { target, kind, set, called }: Props = $props();
  const size = 50;
  let trail = $state<string[]>([]);
  let prefix = $state('');
  let open = $state('');
  let told = $state(''); // whose past is told
  let side = $state(false);
  const objects = $derived(
    ask(
      api.GET('/api/targets/{name}/objects/{kind}', {
        params: { path: { name: target, kind }, query: { after: trail.at(-1), size, prefix } },
      }),
    ),
  );
  const apart = ['within', 'seats']; // drawn otherwise than in a column
  const columns = (items: Schemas['Object'][]) =>
    [...new Set(items.flatMap((o) => Object.keys(o.attributes)))].filter((a) => !apart.includes(a)).sort();

  const inIt = (o: Schemas['Object']) =>
    [
      o.attributes.seats ? `${o.members ?? 0} of ${count(Number(o.attributes.seats[0]), 'seat', 'seats')}` : '',
      o.members && !o.attributes.seats ? count(o.members, 'account', 'accounts') : '',
      o.groups ? count(o.groups, 'group', 'groups') : '',
    ]
      .filter(Boolean)
      .join(', ');
  const heads = (names: string[]) => [
    kind[0].toUpperCase() + kind.slice(1),
    'Declared',
    ...(set ? ['In it'] : []),
    ...names.map(called).map((w) => w[0].toUpperCase() + w.slice(1)),
    'Note',
  ];
</script>

{#if set}
  <p class="mb-2 flex gap-4 text-sm">
    {#each [false, true] as matrix (matrix)}
      <button
        class="cursor-pointer {side === matrix ? 'border-barn border-b-2' : 'text-soft hover:underline'}"
        aria-pressed={side === matrix}
        onclick={() => (side = matrix)}>{matrix ? 'Side by side' : 'One below the other'}</button>
    {/each}
  </p>
{/if}
{#if side}<Matrix {target} {kind} />{:else}
  <label class="text-soft mb-2 block text-sm">
    begins with
    <Field bind:value={prefix} oninput={() => (trail = [])} />
  </label>
  <Await ask={objects}>
    {#snippet children(p)}
      {@const names = columns(p.items)}
      <Grid label={kind} head={heads(names)}>
        {#each tree(p.items) as { o, deep } (o.name)}
          <Row>
            <Cell name
              ><button
                class="cursor-pointer text-left wrap-anywhere hover:underline"
                style:padding-left="{deep * 1.5}rem"
                title="What became of it?"
                aria-expanded={told === o.name}
                onclick={() => (told = told === o.name ? '' : o.name)}>{o.name}</button
              ></Cell>
            <Cell>{o.declared ? 'yes' : ''}</Cell>
            {#if set}
              <Cell>
                {#if o.members || o.groups}
                  <button class="underline" aria-expanded={open === o.name} onclick={() => (open = open === o.name ? '' : o.name)}>
                    {inIt(o)}
                  </button>
                  {#if open === o.name}
                    {#if o.members}<Members {target} {kind} set={o.name} of="account" />{/if}
                    {#if o.groups}<Members {target} {kind} set={o.name} of="group" />{/if}
                  {/if}
                {:else}{inIt(o)}{/if}
              </Cell>
            {/if}
            {#each names as name (name)}<Cell>{(o.attributes[name] ?? []).join(', ')}</Cell>{/each}
            <Cell>{o.protected ?? ''}</Cell>
          </Row>
        {/each}
      </Grid>
      {#if !p.items.length}<p class="sub">None was seen.</p>{/if}
      {#if told}{#key told}<History {target} {kind} name={told} {called} />{/key}{/if}
      <Trail bind:trail {size} shown={p.items.length} total={p.total} next={p.next} />
    {/snippet}
  </Await>
{/if}
