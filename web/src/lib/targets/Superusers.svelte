<script lang="ts">
  // Who can become superuser on a target, and through what.
  import { api, ask } from '../api/client';
  import { count } from '../words';
  import Await from '../ui/Await.svelte';
  import Cell from '../ui/Cell.svelte';
  import Grid from '../ui/Grid.svelte';
  import Row from '../ui/Row.svelte';
  import Who from '../ui/Who.svelte';

  let { target }: { target: string } = $props();
  const list = $derived(ask(api.GET('/api/targets/{name}/superusers', { params: { path: { name: target } } })));
  const doors: Record<string, string> = { yes: 'shut', no: 'open', partly: 'half shut' };
</script>

<h2>Who can become superuser</h2>
<Await ask={list}>
  {#snippet children(s)}
    {#if s.accounts.length}
      <Grid label="Superusers" head={['Account', 'Whose', 'Through', 'Open', 'Last sign-in', 'Note']}>
        {#each s.accounts as a (a.name)}
          <Row>
            <Cell name>{a.name}</Cell>
            <Cell><Who id={a.user} name={a['user-name']} /></Cell>
            <Cell wide><span class="text-barn">{(a.attributes.elevation ?? []).join(', ')}</span></Cell>
            <Cell>{doors[a.attributes.disabled?.[0] ?? 'no']}</Cell>
            <Cell>{a.attributes['last-sign-in']?.[0] ?? ''}</Cell>
            <Cell>{a.protected ?? ''}</Cell>
          </Row>
        {/each}
      </Grid>
    {:else}<p class="sub">{count(0, 'account', 'accounts')} but the superuser’s own.</p>{/if}
    {#if s.everyone}<p class="text-barn">A rule gives it to everybody.</p>{/if}
    {#if s.groups.length}<p class="text-soft mt-2 text-sm">
        Whoever is in one of these groups can: <span class="name">{s.groups.join(', ')}</span>.
      </p>{/if}
    {#if s.rights.length}<p class="text-soft mt-2 text-sm">
        Whoever has one of these rights can: <span class="name">{s.rights.join(', ')}</span>.
      </p>{/if}
    {#if s.named.length}<p class="text-soft text-sm">
        Rules name, and there is no such account yet: <span class="name">{s.named.join(', ')}</span>.
      </p>{/if}
  {/snippet}
</Await>
