<script lang="ts">
  // The kinds of target that files teach, each with its file and the conversations that were recorded.
  import { api, ask } from '../api/client';
  import { count } from '../words';
  import { link, router } from '../router.svelte';
  import Await from '../ui/Await.svelte';
  import Cell from '../ui/Cell.svelte';
  import Grid from '../ui/Grid.svelte';
  import Row from '../ui/Row.svelte';

  const list = $derived(ask(api.GET('/api/dialects')));
  const kind = $derived(router.part(1) ?? '');
  const one = $derived(kind ? ask(api.GET('/api/dialects/{name}', { params: { path: { name: kind } } })) : null);
</script>

<Await ask={list}>
  {#snippet children(all)}
    {#if all.length}
      <h1>{count(all.length, 'kind of target is', 'kinds of targets are')} taught by dialects.</h1>
      <p class="sub">Each is a file, with recordings of conversations beside it, by which it is checked whenever the service starts.</p>
      <Grid label="Dialects" head={['Kind', 'File', { figure: 'Recordings' }, 'Checked', 'Targets', 'What it is']}>
        {#each all as d (d.kind)}
          <Row>
            <Cell name><a use:link href="/dialects/{d.kind}" aria-current={kind === d.kind ? 'true' : undefined}>{d.kind}</a></Cell>
            <Cell name>{d.file}</Cell>
            <Cell figure>{d.recordings || ''}</Cell>
            <Cell
              >{#if d.faults.length}<span class="text-barn">{count(d.faults.length, 'fault', 'faults')}</span>{:else}as recorded{/if}</Cell>
            <Cell name
              >{#each d.targets as t, i (t)}{i ? ', ' : ''}<a use:link href="/targets/{encodeURIComponent(t)}">{t}</a>{/each}</Cell>
            <Cell wide>{d.about ?? ''}</Cell>
          </Row>
        {/each}
      </Grid>
    {:else}
      <h1>No dialect teaches anything.</h1>
      <p class="sub">
        Systems that are run by typing at them are taught by files, in the folder that <code>roost serve --dialects</code> names.
      </p>
    {/if}
  {/snippet}
</Await>
{#if one}
  <Await ask={one}>
    {#snippet children(d)}
      <h2 class="mt-8">{d.file}</h2>
      {#each d.faults as f (f)}<p class="bg-barn-wash border-barn mb-2 border-l-4 px-4 py-1 wrap-anywhere">{f}</p>{/each}
      <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
      <pre class="border-rule bg-sheet name max-h-[60vh] overflow-auto rounded border p-3 text-[13px] leading-5" tabindex="0">{d.text}</pre>
      {#each d.beside as r (r.file)}
        <details class="mt-4">
          <summary class="cursor-pointer underline">{r.file}</summary>
          <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
          <pre
            class="border-rule bg-sheet name mt-2 max-h-[60vh] overflow-auto rounded border p-3 text-[13px] leading-5"
            tabindex="0">{r.text}</pre>
        </details>
      {/each}
    {/snippet}
  </Await>
{/if}
