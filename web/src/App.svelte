<script lang="ts">
  import { api, ask, onSignedOut, type Schemas } from './lib/api/client';
  import { link, router } from './lib/router.svelte';
  import Declaration from './lib/declaration/Declaration.svelte';
  import Revision from './lib/declaration/Revision.svelte';
  import Drift from './lib/drift/Drift.svelte';
  import Find from './lib/ui/Find.svelte';
  import Overview from './lib/overview/Overview.svelte';
  import TeamRecord from './lib/record/Record.svelte';
  import Bulk from './lib/rounds/Bulk.svelte';
  import Round from './lib/rounds/Round.svelte';
  import Rounds from './lib/rounds/Rounds.svelte';
  import Password from './lib/signin/Password.svelte';
  import SignIn from './lib/signin/SignIn.svelte';
  import Compare from './lib/targets/Compare.svelte';
  import Dialects from './lib/targets/Dialects.svelte';
  import Fleet from './lib/targets/Fleet.svelte';
  import Target from './lib/targets/Target.svelte';
  import Targets from './lib/targets/Targets.svelte';
  import HandoverPage from './lib/users/HandoverPage.svelte';
  import Intakes from './lib/users/Intakes.svelte';
  import Join from './lib/users/Join.svelte';
  import User from './lib/users/User.svelte';
  import Ending from './lib/users/Ending.svelte';
  import WeakPasswords from './lib/users/WeakPasswords.svelte';
  import Users from './lib/users/Users.svelte';
  import Act from './lib/ui/Act.svelte';

  let who = $state<Schemas['Operator'] | null | undefined>(undefined);
  ask(api.GET('/api/session')).then(
    (w) => (who = w),
    () => (who = null),
  );
  onSignedOut(() => (who = null));

  const places = [
    ['', 'Overview'],
    ['users', 'Users'],
    ['targets', 'Targets'],
    ['declaration', 'Declaration'],
    ['drift', 'Drift'],
    ['rounds', 'Rounds'],
    ['record', 'Record'],
  ];
  const here = $derived(router.part(0));
  const under = $derived({ fleet: 'targets', compare: 'targets', dialects: 'targets', intakes: 'users' }[here] ?? here); // the place that leads there
  const title = $derived(
    places.find(([p]) => p === here)?.[1] ??
      {
        ending: 'Ending soon',
        'weak-passwords': 'Weak passwords',
        handovers: 'Handovers',
        intakes: 'Pushed in',
        fleet: 'Fleet',
        compare: 'Compare',
      }[here] ??
      'Hen Roost',
  );
  $effect(() => {
    document.title = `${router.part(1) ? router.part(1) + ' · ' : ''}${title} · Hen Roost`;
  });

  let theme = $state(localStorage.getItem('theme') ?? '');
  $effect(() => {
    if (theme) document.documentElement.dataset.theme = theme;
    else delete document.documentElement.dataset.theme;
    theme ? localStorage.setItem('theme', theme) : localStorage.removeItem('theme');
  });
  const themes: Record<string, string> = { '': 'light', light: 'dark', dark: '' };
  const themeWords: Record<string, string> = { '': 'as the system', light: 'light', dark: 'dark' };

  async function signOut() {
    await ask(api.DELETE('/api/session')).catch(() => {});
    who = null;
  }
</script>

{#if who === null}
  <SignIn done={(w) => (who = w)} />
{:else if who}
  <a href="#main" class="bg-ink text-paper absolute -top-20 left-4 z-10 px-3 py-2 focus:top-2">To the page</a>
  <header class="border-rule flex flex-wrap items-baseline gap-x-7 gap-y-2 border-b-[3px] border-double px-8 py-3.5 max-sm:px-4">
    <a use:link href="/" class="font-serif text-xl font-semibold no-underline">Hen Roost</a>
    <nav aria-label="Pages" class="flex flex-wrap gap-x-5">
      {#each places as [path, word] (path)}
        <a
          use:link
          href="/{path}"
          aria-current={under === path ? 'page' : undefined}
          class="no-underline {under === path ? 'border-barn border-b-2' : 'text-soft'}">{word}</a>
      {/each}
    </nav>
    <div class="ml-auto flex flex-wrap items-baseline gap-4">
      <Find />
      <a use:link href="/password" class="no-underline hover:underline" title="{who.duties.join(', ')}; change your password"
        >{who['full-name']}</a>
      <Act soft onclick={() => (theme = themes[theme])} aria-label="Colours: {themeWords[theme]}. Change.">{themeWords[theme]}</Act>
      <Act soft onclick={signOut}>Sign out</Act>
    </div>
  </header>
  <main id="main" tabindex="-1" class="px-8 py-6 outline-none max-sm:px-4">
    {#key router.path}
      {#if here === ''}<Overview />
      {:else if here === 'users' && router.part(1) === 'join'}<Join />
      {:else if here === 'users' && router.part(1)}<User id={router.part(1)} />
      {:else if here === 'users'}<Users />
      {:else if here === 'ending'}<Ending />
      {:else if here === 'weak-passwords'}<WeakPasswords />
      {:else if here === 'handovers'}<HandoverPage />
      {:else if here === 'intakes'}<Intakes />
      {:else if here === 'targets' && router.part(1)}<Target name={router.part(1)} />
      {:else if here === 'targets'}<Targets />
      {:else if here === 'dialects'}<Dialects />
      {:else if here === 'fleet'}<Fleet />
      {:else if here === 'compare'}<Compare />
      {:else if here === 'declaration' && router.part(1)}<Revision number={Number(router.part(1))} />
      {:else if here === 'declaration'}<Declaration />
      {:else if here === 'drift'}<Drift />
      {:else if here === 'rounds' && router.part(1) === 'bulk'}<Bulk />
      {:else if here === 'rounds' && router.part(1)}<Round id={Number(router.part(1))} />
      {:else if here === 'rounds'}<Rounds />
      {:else if here === 'record'}<TeamRecord />
      {:else if here === 'password'}<Password />
      {:else}<h1>There is no such page.</h1>
        <p class="sub"><a use:link href="/">To the overview</a></p>{/if}
    {/key}
  </main>
{/if}
