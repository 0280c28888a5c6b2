<!-- The operator's own password. -->
<script lang="ts">
  import { Button, Input, Label } from 'flowbite-svelte';
  import { api, ask } from '../api/client';
  let old = $state('');
  let fresh = $state('');
  let again = $state('');
  let error = $state('');
  let done = $state(false);
  let busy = $state(false);

  async function submit(e: SubmitEvent) {
    e.preventDefault();
    error = fresh === again ? '' : 'The new password was not typed twice alike.';
    if (error) return;
    busy = true;
    try {
      await ask(api.PUT('/api/session/password', { body: { old, new: fresh } }));
      done = true;
    } catch (e) {
      error = (e as Error).message;
    } finally {
      busy = false;
    }
  }
</script>

{#if done}
  <h1>Your password is changed.</h1>
  <p class="sub">Your other sessions and tokens have ended; this one goes on.</p>
{:else}
  <h1>Change your password.</h1>
  <p class="sub">It has at least 12 letters. All your other sessions and tokens end with the old one.</p>
  <form onsubmit={submit} class="flex max-w-sm flex-col gap-4">
    <div>
      <Label for="old" class="mb-1">The password you have</Label><Input
        id="old"
        type="password"
        bind:value={old}
        autocomplete="current-password"
        required />
    </div>
    <div>
      <Label for="new" class="mb-1">The new one</Label><Input
        id="new"
        type="password"
        bind:value={fresh}
        autocomplete="new-password"
        minlength={12}
        required />
    </div>
    <div>
      <Label for="again" class="mb-1">The new one again</Label><Input
        id="again"
        type="password"
        bind:value={again}
        autocomplete="new-password"
        required />
    </div>
    {#if error}<p class="text-barn" role="alert">{error}</p>{/if}
    <div><Button type="submit" disabled={busy} class="bg-ink text-paper rounded">Change it</Button></div>
  </form>
{/if}
