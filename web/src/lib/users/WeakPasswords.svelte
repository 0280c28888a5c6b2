<!-- Who took passwords that a policy watches for and lets through, week by week. -->
<script lang="ts">
  import { api, ask } from '../api/client';
  import { count } from '../words';
  import Await from '../ui/Await.svelte';
  import Cell from '../ui/Cell.svelte';
  import Grid from '../ui/Grid.svelte';
  import Row from '../ui/Row.svelte';
  import Who from '../ui/Who.svelte';

  const found = ask(api.GET('/api/screenings'));
</script>

<Await ask={found}>
  {#snippet children(f)}
    <h1>
      {#if f.items.length}<span class="needs">{count(new Set(f.items.map((x) => x.user)).size, 'person', 'people')}</span> took a password that
        a policy watches for.{:else}Nobody took a password that a policy watches for.{/if}
    </h1>
    <p class="sub">
      A policy with screening: watch lets such passwords through and counts them. The passwords themselves are kept nowhere.
    </p>
    {#if f.items.length}
      <Grid label="Weak passwords" head={['Week from', 'Who', { figure: 'Times' }, 'Policy']}>
        {#each f.items as x, i (i)}
          <Row
            ><Cell>{x.week}</Cell><Cell><Who id={x.user} name={x.name} /></Cell><Cell figure>{x.times}</Cell><Cell name>{x.policy}</Cell
            ></Row>
        {/each}
      </Grid>
    {/if}
  {/snippet}
</Await>
