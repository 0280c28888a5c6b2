<!-- What waits behind a link, collected once by its person. Opening the page shows nothing: a button and a code do. -->
<script lang="ts">
  import { api, ask, type Schemas } from '../lib/api/client';

  const link = location.hash.slice(1);
  let waiting = $state.raw<Schemas['Pending']>();
  let shown = $state.raw<Schemas['Shown']>();
  let code = $state('');
  let error = $state('');
  let nothing = $state(link ? '' : 'The link is not whole: what stands behind # is missing. Open it as it was given to you.');
  let busy = $state(false);
  let copied = $state(false);

  $effect(() => {
    if (!link) return;
    ask(api.POST('/api/collect/look', { body: { link } })).then(
      (w) => (waiting = w),
      (e: Error) => (nothing = sentence(e.message)),
    );
  });
  const sentence = (s: string) => s.charAt(0).toUpperCase() + s.slice(1) + (s.endsWith('.') ? '' : '.');
  const until = $derived(waiting && new Date(waiting['expires-at']).toLocaleString([], { dateStyle: 'medium', timeStyle: 'short' }));

  async function collect(e: SubmitEvent) {
    e.preventDefault();
    busy = true;
    error = '';
    try {
      shown = await ask(api.POST('/api/collect', { body: { link, code } }));
      history.replaceState(null, '', location.pathname); // it leads to nothing any more
    } catch (e) {
      const { status, message } = e as Error & { status: number };
      if (status === 404) nothing = sentence(message);
      else error = sentence(message);
    } finally {
      busy = false;
    }
  }
  async function copy() {
    await navigator.clipboard.writeText(shown!.value);
    copied = true;
  }
</script>

<main>
  <p class="house">Hen Roost</p>
  {#if shown}
    <h1>Your {shown.what}</h1>
    <p>It is shown this once, and is gone when you close this page. Keep it where nobody else looks.</p>
    <div class="value" dir="ltr">{shown.value}</div>
    <div class="acts">
      <button class="plain" onclick={copy}>{copied ? 'Copied' : 'Copy it'}</button>{#if shown.what !== 'password'}<a
          class="plain"
          download="{shown.user}-{shown.what}.pem"
          href={'data:application/x-pem-file,' + encodeURIComponent(shown.value)}>Save it as a file</a
        >{/if}
    </div>
    {#if shown.accounts.length}
      <table>
        <thead><tr><th>Where</th><th>Sign in as</th></tr></thead>
        <tbody>
          {#each shown.accounts as a (a.target + a.name)}<tr><td>{a.target}</td><td>{a.name}</td></tr>{/each}
        </tbody>
      </table>
    {/if}
    {#if shown.change}<p>You will be asked to change it when you sign in first.</p>{/if}
  {:else if nothing}
    <h1>Nothing waits here.</h1>
    <p role="alert">{nothing}</p>
  {:else if waiting}
    <h1>A {waiting.what} waits for you.</h1>
    <p>It can be shown once, until {until}. You need the code that you were told in another way than this link.</p>
    <form onsubmit={collect}>
      <p>
        <label for="code">Code</label>
        <input id="code" bind:value={code} inputmode="numeric" autocomplete="off" required maxlength="12" />
      </p>
      {#if error}<p class="wrong" role="alert">{error}</p>{/if}
      <button type="submit" disabled={busy}>Show it to me, once</button>
    </form>
  {:else}
    <p class="soft" role="status">Looking…</p>
  {/if}
</main>
