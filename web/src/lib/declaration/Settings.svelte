<!-- Changes of guarded settings, the value in force beside the one that is declared. -->
<script lang="ts">
  import type { Schemas } from '../api/client';
  import Cell from '../ui/Cell.svelte';
  import Grid from '../ui/Grid.svelte';
  import Row from '../ui/Row.svelte';
  // Whoever approves them sees them all: total is how many there are beside those that the service lists.
  let { items, total = items.length }: { items: Schemas['PendingSetting'][]; total?: number } = $props();
</script>

<Grid label="Changes of guarded settings" head={['What', 'Setting', 'In force', 'Declared', 'Why it is guarded', 'By']}>
  {#each items as p (p.thing + ' ' + p.setting)}
    <Row>
      <Cell>{p.thing}</Cell>
      <Cell><span class="name">{p.setting}</span></Cell>
      <Cell><span class="name wrap-anywhere">{p.new ? '(new)' : p['in-force']}</span></Cell>
      <Cell><span class="name wrap-anywhere">{p.declared}</span></Cell>
      <Cell wide>it {p.why}</Cell>
      <Cell>{p.by}, revision {p.revision}</Cell>
    </Row>
  {/each}
</Grid>
{#if total > items.length}<p class="text-soft">… and {total - items.length} more: name what to see, roost revision pending NAMES</p>{/if}
