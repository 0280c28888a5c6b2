<script lang="ts">
  import { Button, Input, Label } from 'flowbite-svelte';
  import { api, ask, type Schemas } from '../api/client';
  let { done }: { done: (who: Schemas['Operator']) => void } = $props();
  let name = $state('');
  let password = $state('');
  let error = $state('');
  let busy = $state(false);

  async function submit(e: SubmitEvent) {
    e.preventDefault();
    busy = true;
    error = '';
    try {
      done(await ask(api.POST('/api/session', { body: { name, password } })));
    } catch (e) {
      error = (e as Error).message;
      password = '';
    } finally {
      busy = false;
    }
  }
</script>

<main class="mx-auto max-w-sm px-6 pt-24">
  <h1>Hen Roost</h1>
  <p class="sub">Who may sign in to what, as it was declared. Everything done here goes into the record.</p>
  <form onsubmit={submit} class="flex flex-col gap-4">
    <div>
      <Label for="operator" class="mb-1">Operator</Label><Input
        id="operator"
        bind:value={name}
        autocomplete="username"
        required
        autofocus />
    </div>
    <div>
      <Label for="password" class="mb-1">Password</Label><Input
        id="password"
        type="password"
        bind:value={password}
        autocomplete="current-password"
        required />
    </div>
    {#if error}<p class="text-barn" role="alert">{error}</p>{/if}
    <div><Button type="submit" disabled={busy} class="bg-ink text-paper rounded">Sign in</Button></div>
  </form>
</main>
