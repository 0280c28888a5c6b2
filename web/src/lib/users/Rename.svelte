<!-- Another id for somebody: looked at first, then declared; their accounts stay theirs. -->
<script lang="ts">
  import { Button, Input, Label, Modal } from 'flowbite-svelte';
  import { api, ask, type Schemas } from '../api/client';
  import { router } from '../router.svelte';
  import { count } from '../words';

  let { user, name }: { user: string; name: string } = $props();
  const id = $props.id();
  let open = $state(false);
  let to = $state('');
  let because = $state('');
  let looked = $state.raw<Schemas['Renaming']>();
  let error = $state('');
  let busy = $state(false);

  function begin() {
    looked = undefined;
    error = '';
    open = true;
  }
  const rename = (look: boolean) =>
    ask(api.POST('/api/users/{id}/rename', { params: { path: { id: user } }, body: { to: to.trim(), because, look } }));
  async function submit(e: SubmitEvent) {
    e.preventDefault();
    busy = true;
    error = '';
    try {
      if (!looked) {
        looked = await rename(true);
        return;
      }
      const done = await rename(false);
      open = false;
      router.go(`/users/${encodeURIComponent(done.to)}`);
    } catch (e) {
      error = (e as Error).message;
      looked = undefined;
    } finally {
      busy = false;
    }
  }
</script>

<Button outline class="border-rule rounded border" onclick={begin}>Rename</Button>
<Modal title="Another id for {name}" bind:open size="lg" class="border-rule border">
  <form onsubmit={submit} oninput={() => (looked = undefined)} class="flex flex-col gap-3">
    <Label for="{id}to">New id, in place of <span class="name">{user}</span></Label>
    <Input id="{id}to" bind:value={to} required maxlength={200} placeholder="jens-ole.bell" />
    <Label for="{id}because">Because</Label>
    <Input id="{id}because" bind:value={because} required maxlength={500} placeholder="why, for those who read the record" />
    {#if looked}
      <p class="m-0">
        {count(looked.places, 'place', 'places')} of the declaration would change.
        {#if looked.accounts.length}These accounts stay theirs, under the login that they have:{:else}No account is known to be theirs.{/if}
      </p>
      {#if looked.accounts.length}
        <ul class="m-0 list-none p-0">
          {#each looked.accounts as a (a.target + a.account)}<li><span class="name">{a.account}</span> on {a.target}</li>{/each}
        </ul>
      {/if}
      <p class="text-soft m-0 text-sm">Values that the declaration makes of the id, as a mail address, change with it.</p>
      {#if looked.also?.length}
        <p class="m-0">
          The old id also stands in comments or conditions, which stay as they are: <span class="name">{looked.also.join(', ')}</span>
        </p>
      {/if}
      {#if looked.sources?.length}
        <p class="border-barn m-0 border p-2">
          {looked.sources.join(', ')} tells of them by the old id, and would bring it back. Change it there too.
        </p>
      {/if}
    {/if}
    {#if error}<p class="text-barn m-0" role="alert">{error}</p>{/if}
    <div>
      <Button type="submit" disabled={busy} class="bg-ink text-paper rounded">{looked ? 'Declare it' : 'See what it means'}</Button>
    </div>
  </form>
</Modal>
