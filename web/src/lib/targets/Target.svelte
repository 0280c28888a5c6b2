<script lang="ts">
  import { Button } from 'flowbite-svelte';
  import { api, ask } from '../api/client';
  import { link } from '../router.svelte';
  import { afresh, count, when } from '../words';
  import Await from '../ui/Await.svelte';
  import Because from '../ui/Because.svelte';
  import Cell from '../ui/Cell.svelte';
  import Grid from '../ui/Grid.svelte';
  import Happened from '../ui/Happened.svelte';
  import Trail from '../ui/Trail.svelte';
  import Row from '../ui/Row.svelte';
  import State from '../ui/State.svelte';
  import Who from '../ui/Who.svelte';
  import { calling, can, kinds, unknown } from '../kinds';
  import Pending from '../declaration/Pending.svelte';
  import Answering from './Answering.svelte';
  import Commission from './Commission.svelte';
  import Difference from './Difference.svelte';
  import Details from './Details.svelte';
  import History from './History.svelte';
  import Holds from './Holds.svelte';
  import Homes from './Homes.svelte';
  import May from './May.svelte';
  import Needs from './Needs.svelte';
  import Sessions from './Sessions.svelte';
  import Seats from './Seats.svelte';
  import Superusers from './Superusers.svelte';
  import Field from '../ui/Field.svelte';

  let { name }: { name: string } = $props();
  const size = 50;
  let trail = $state<string[]>([]);
  let prefix = $state('');
  let origin = $state('');
  let again = $state(0);
  let busy = $state(false);
  let said = $state('');
  const target = $derived(afresh(again, () => ask(api.GET('/api/targets/{name}', { params: { path: { name } } }))));
  const accounts = $derived(
    afresh(again, () =>
      ask(
        api.GET('/api/targets/{name}/accounts', {
          params: { path: { name }, query: { after: trail.at(-1), size, prefix, ends: origin && joint + origin } },
        }),
      ),
    ),
  );

  async function act(what: () => Promise<string>) {
    busy = true;
    try {
      said = await what();
    } catch (e) {
      said = (e as Error).message;
    } finally {
      busy = false;
      again++;
    }
  }
  const survey = () =>
    act(async () => {
      const [r] = await ask(api.POST('/api/surveys', { body: { targets: [name] } }));
      return r.words ?? `Read in ${r['took-ms']} ms: ${count(r.findings, 'finding', 'findings')}, ${r.fresh} new.`;
    });
  const accept = (print: string) =>
    act(async () => {
      await ask(api.POST('/api/targets/{name}/accept-key', { params: { path: { name } }, body: { print } }));
      return 'Accepted. Survey it now.';
    });
  let rotating = $state(false);
  async function rotate(secret: string, because: string) {
    const out = await ask(api.POST('/api/secrets/{name}/rotate', { params: { path: { name: secret } }, body: { because } }));
    said = [out.words, ...out.targets.filter((x) => x.words).map((x) => `${x.target}: ${x.state}, ${x.words}`)].join('; ');
  }
  let called = $state((attribute: string) => attribute);
  let able = $state(unknown); // what targets of this kind can
  let commissioning = $state(false);
  let shown = $state('account');
  let told = $state(''); // the account whose past is told
  kinds().then((list) => (called = calling(list)));
  $effect(() => {
    target.then(
      async (t) => (able = await can(t.kind)),
      () => {},
    );
  });
  const has = (attribute: string) => able.attributes?.includes(attribute) ?? true;
  const parted = $derived(able.parts > 1); // an account is a login and where it may come from
  const joint = $derived(able.joint);
  let wanted = $state(false); // every name is looked at for them: only when somebody chooses
  const origins = $derived(
    parted && wanted ? ask(api.GET('/api/targets/{name}/origins', { params: { path: { name } } })) : Promise.resolve([]),
  );
  const doors: Record<string, string> = { yes: 'shut', no: 'open', partly: 'half shut' };
</script>

<Await ask={target}>
  {#snippet children(t)}
    <h1>
      <span class="font-mono text-[26px]">{t.name}</span>
      {#if t.state !== 'surveyed'}is {t.state}.{:else if t.total}has <a
          use:link
          href="/drift?target={encodeURIComponent(t.name)}"
          class="needs no-underline">{count(t.total, 'finding', 'findings')}</a
        >.{:else}is as declared.{/if}
    </h1>
    <p class="sub">
      {'aeiou'.includes(t.kind[0] ?? '') ? 'An' : 'A'}
      {t.kind} at <span class="name">{t.address}</span>; Hen Roost signs in as <span class="name">{t.login}</span>{#if t.secret}{' '}with
        the secret <span class="name">{t.secret}</span>{/if}. Surveyed {when(t['surveyed-at']) ||
        'never'}{#if t['surveyed-at'] && t['took-ms']}{' '}in {t['took-ms']} ms{/if}. Accounts nobody declared: {t.unexpected}. Protected: {t.protect.join(
        ', ',
      ) || 'none'}. Recognised by {t.match.join(', ')}. Declared at <span class="name">{t.at}</span>.
    </p>
    {#if t.words}<p class="bg-barn-wash border-barn mb-4 border-l-4 px-4 py-2 wrap-anywhere">{t.words}</p>{/if}
    {#if t.pending}<Pending thing="target {t.name}" done={() => again++} />{/if}
    {#if t.print}
      <p class="bg-ochre-wash border-ochre mb-4 border-l-4 px-4 py-2">
        It shows the key <span class="name wrap-anywhere">{t.print}</span>. Compare it with the one on the target itself.
        <Button size="xs" class="bg-ink text-paper ml-3 rounded" disabled={busy} onclick={() => accept(t.print!)}>Accept this key</Button>
      </p>
    {/if}
    <p class="mb-6 flex items-baseline gap-4">
      <Button class="bg-ink text-paper rounded" disabled={busy} onclick={survey}>{busy ? 'Working…' : 'Survey'}</Button>
      {#if t.secret && t.renews}<Button outline class="border-rule rounded border" disabled={busy} onclick={() => (rotating = true)}
          >Rotate {t.secret}</Button
        >{/if}
      {#if able.elevation}<Button outline class="border-rule rounded border" disabled={busy} onclick={() => (commissioning = true)}
          >Commission</Button
        >{/if}
      <span role="status">{said}</span>
    </p>
    <Because
      bind:open={rotating}
      title="Rotate {t.secret}, on every target that is signed in to with it"
      verb="Rotate"
      act={(because) => rotate(t.secret!, because)} />
  {/snippet}
</Await>
<Commission target={name} bind:open={commissioning} />
<Await ask={target}>
  {#snippet children(t)}
    <Details details={t.details} {called} />
    {#if able.difference && t['surveyed-at'] && t.total}<Difference target={t.name} />{/if}
    <h2>What it was last seen to hold</h2>
    <p class="mb-3 flex flex-wrap gap-4 text-sm">
      {#each t.holds as h (h.kind)}
        <button
          class="cursor-pointer {shown === h.kind ? 'border-barn border-b-2 font-medium' : 'text-soft hover:underline'}"
          aria-pressed={shown === h.kind}
          title={h.about}
          onclick={() => (shown = h.kind)}>{count(h.n, h.kind, h.kind === 'policy' ? 'policies' : `${h.kind}s`)}</button>
      {/each}
    </p>
    {#if shown !== 'account'}
      {#key shown}<Holds target={t.name} kind={shown} set={t.holds.find((h) => h.kind === shown)?.set} {called} />{/key}
    {/if}
  {/snippet}
</Await>
{#if shown === 'account'}
  <div class="mb-2">
    <label class="text-soft text-sm">begins with <Field bind:value={prefix} oninput={() => (trail = [])} /></label>
    {#if parted}
      <label class="text-soft ml-6 text-sm"
        >from <Field
          list="origins"
          placeholder="anywhere"
          onfocus={() => (wanted = true)}
          onchange={(e) => ((origin = e.currentTarget.value), (trail = []))} /></label>
      <datalist id="origins">
        {#await origins then list}
          {#each list as o (o.origin)}<option value={o.origin}>{count(o.accounts, 'account', 'accounts')}</option>{/each}
        {/await}
      </datalist>
    {/if}
  </div>
  <Await ask={accounts}>
    {#snippet children(p)}
      <Grid
        label="Accounts"
        head={[
          'Account',
          'Whose',
          ...(has('number') ? [{ figure: 'Number' }] : []),
          ...(has('full-name') ? ['Name there'] : []),
          'Open',
          ...(has('last-sign-in') ? ['Last sign-in'] : []),
          ...(has('sign-in') ? ['Signs in by'] : []),
          'Superuser',
          'Note',
        ]}>
        {#each p.items as a (a.name)}
          <Row>
            <Cell name
              ><button class="cursor-pointer text-left hover:underline" title="What became of it?" onclick={() => (told = a.name)}
                >{a.name}</button
              ></Cell>
            <Cell><Who id={a.user} name={a['user-name']} /></Cell>
            {#if has('number')}<Cell figure>{a.attributes.number?.[0] ?? ''}</Cell>{/if}
            {#if has('full-name')}<Cell><span dir="auto">{a.attributes['full-name']?.[0] ?? ''}</span></Cell>{/if}
            <Cell>{doors[a.attributes.disabled?.[0] ?? 'no']}</Cell>
            {#if has('last-sign-in')}<Cell>{a.attributes['last-sign-in']?.[0] ?? ''}</Cell>{/if}
            {#if has('sign-in')}<Cell>{a.attributes['sign-in']?.join(', ') ?? ''}</Cell>{/if}
            <Cell
              >{#if a.attributes.elevation}<span class="text-barn">{a.attributes.elevation.join(', ')}</span>{/if}</Cell>
            <Cell>{a.protected || (a.system ? "the system's own, lent" : '')}</Cell>
          </Row>
        {/each}
      </Grid>
      <Trail bind:trail {size} shown={p.items.length} total={p.total} next={p.next} />
      {#if told}{#key told}<History target={name} kind="account" name={told} {called} />{/key}{/if}
    {/snippet}
  </Await>
{/if}
<Await ask={target}>
  {#snippet children(t)}
    {#if t.holds.some((h) => h.kind === 'licence') && t['surveyed-at']}<div class="mt-8"><Seats target={t.name} /></div>{/if}
    {#if has('elevation') && t['surveyed-at']}<div class="mt-8"><Superusers target={t.name} /></div>{/if}
    {#if parted && t['surveyed-at']}<div class="mt-8"><Answering target={t.name} /></div>{/if}
    {#if able.actions && t['surveyed-at']}<div class="mt-8"><May target={t.name} examples={able.actions} /></div>{/if}
    {#if able.sessions}<div class="mt-8"><Sessions target={t.name} /></div>{/if}
    {#if able.homes}<div class="mt-8"><Homes target={t.name} /></div>{/if}
    {#if t.needs}<div class="mt-8"><Needs target={t.name} /></div>{/if}
  {/snippet}
</Await>
<Happened target={name} />
