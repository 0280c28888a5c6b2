<script lang="ts">
  import { Input } from 'flowbite-svelte';
  import { api, ask } from '../api/client';
  import { link, router } from '../router.svelte';
  import { count } from '../words';
  import Await from '../ui/Await.svelte';
  import Cell from '../ui/Cell.svelte';
  import Grid from '../ui/Grid.svelte';
  import Pager from '../ui/Pager.svelte';
  import Row from '../ui/Row.svelte';
  import State from '../ui/State.svelte';

  const size = 50;
  let from = $state(0);
  let text = $state(router.query.get('text') ?? '');
  const users = $derived(ask(api.GET('/api/users', { params: { query: { text, from, size } } })));
</script>

<Await ask={users}>
  {#snippet children(p)}
    <h1>
      {text ? count(p.total, 'user speaks', 'users speak') + ' of “' + text + '”.' : count(p.total, 'user is', 'users are') + ' declared.'}
    </h1>
    <p class="sub">
      <a use:link href="/users/join">Somebody joins</a> · <a use:link href="/ending">Whose access ends soon</a> ·
      <a use:link href="/handovers?state=waiting">Handovers that wait</a> ·
      <a use:link href="/weak-passwords">Weak passwords taken</a> · <a use:link href="/intakes">Pushed in by other systems</a>
    </p>
    <div class="mb-4 max-w-sm">
      <Input
        size="sm"
        placeholder="part of an id, name or mail, or a whole role"
        aria-label="Find users"
        bind:value={text}
        oninput={() => {
          from = 0;
          router.keep({ text });
        }} />
    </div>
    <Grid label="Users" head={['Name', 'User', { figure: 'Number' }, 'Roles', { figure: 'Targets' }, 'State']}>
      {#each p.items as u (u.id)}
        <Row>
          <Cell
            ><a use:link href="/users/{encodeURIComponent(u.id)}" class="no-underline hover:underline" dir="auto">{u.name}</a
            >{#if u.service}<span class="text-soft"> · service</span>{/if}</Cell>
          <Cell name>{u.id}</Cell>
          <Cell figure>{u.number ?? ''}</Cell>
          <Cell wide>{u.roles.join(', ')}</Cell>
          <Cell figure>{u.targets || ''}</Cell>
          <Cell
            >{#if u.state !== 'active'}<State word={u.state} />{' '}{/if}{#if u.findings}<State
                word={u.findings === 1 ? 'finding' : 'findings'}
                more={String(u.findings)} />{:else if u.state === 'active'}<State word="as declared" />{/if}</Cell>
        </Row>
      {/each}
    </Grid>
    <Pager {from} {size} total={p.total} go={(n) => (from = n)} />
  {/snippet}
</Await>
