<!-- All handovers, those that wait first; of a batch they can be printed, or sealed for those who give them out. -->
<script lang="ts">
  import { Button, Label, Textarea } from 'flowbite-svelte';
  import { api, ask, type Schemas } from '../api/client';
  import { link, router } from '../router.svelte';
  import { count } from '../words';
  import Handovers from './Handovers.svelte';
  import Sheets from './Sheets.svelte';

  const id = $props.id();
  const states = ['waiting', 'made', 'collected', 'expired', 'withdrawn', 'not set'] as const;
  const only = $derived((router.query.get('state') ?? undefined) as (typeof states)[number] | undefined);
  const batch = $derived(router.query.get('batch') ?? undefined);
  let mark = $state(0);
  let n = $state(0);
  let to = $state('');
  let error = $state('');
  let sheets = $state.raw<Schemas['Shown'][]>([]);
  let more = $state(false); // others of the batch wait behind those given out
  let file = $state.raw<Schemas['BatchFile']>();

  async function does(what: () => Promise<void>) {
    error = '';
    try {
      await what();
    } catch (e) {
      error = (e as Error).message;
    }
    mark++;
  }
  const print = () =>
    does(async () => {
      const got = await ask(api.POST('/api/handovers/sheets', { body: { batch: batch! } }));
      sheets = got.items;
      more = got.more ?? false;
    });
  const seal = () =>
    does(async () => {
      const keys = to
        .split('\n')
        .map((k) => k.trim())
        .filter(Boolean);
      file = await ask(api.POST('/api/handovers/files', { body: { batch: batch!, to: keys } }));
      more = file.more ?? false;
    });
  const href = (s?: string) =>
    '/handovers' + (s || batch ? '?' + new URLSearchParams({ ...(s && { state: s }), ...(batch && { batch }) }) : '');
</script>

<h1>
  {#if batch}Handovers of {batch}.{:else if only === 'waiting'}<span class="needs">{count(n, 'credential waits', 'credentials wait')}</span> to
    be collected.{:else}New credentials and who has them.{/if}
</h1>
<p class="sub">
  {#if only}<a use:link href={href()}>all</a>{:else}all{/if}{#each states as s (s)}, {#if s === only}{s}{:else}<a use:link href={href(s)}
        >{s}</a
      >{/if}{/each}
</p>
{#if batch}
  <section class="border-rule bg-sheet mb-6 max-w-2xl border p-4">
    <h2>Hand over those of {batch} that wait</h2>
    <p class="mb-3"><Button size="xs" class="bg-ink text-paper rounded" onclick={print}>Print a sheet for each person</Button></p>
    <Label for={id}>or seal them into one file, for these public keys of age or SSH, one a line</Label>
    <Textarea {id} rows={2} bind:value={to} class="name w-full" placeholder="age1… or ssh-ed25519 …" />
    <p class="mt-2 mb-0 flex items-baseline gap-4">
      <Button size="xs" class="bg-ink text-paper rounded" disabled={!to.trim()} onclick={seal}>Seal</Button>
      {#if file}<a download="{batch}.age" href={'data:application/octet-stream,' + encodeURIComponent(file.text)}
          >{batch}.age, for {count(file.people, 'person', 'people')}</a
        >{/if}
    </p>
    {#if more}<p class="mb-0">Others of the batch wait: do the same again.</p>{/if}
    {#if error}<p class="text-barn mb-0" role="alert">{error}</p>{/if}
  </section>
{/if}
<Handovers {batch} {only} {mark} size={50} found={(k) => (n = k)} />
{#if sheets.length}<Sheets {sheets} close={() => (sheets = [])} />{/if}
