<!-- New passwords and keys of a person: made, handed over once, and what became of each. -->
<script lang="ts">
  import { Button, Checkbox, Input, Label } from 'flowbite-svelte';
  import { api, ask, type Schemas } from '../api/client';
  import Because from '../ui/Because.svelte';
  import Link from './Link.svelte';
  import Handovers from './Handovers.svelte';

  let { user, name, changed }: { user: string; name: string; changed: () => void } = $props();
  let mark = $state(0);
  let rotating = $state(false);
  let unlocking = $state(false);
  let expiring = $state(false);
  let keying = $state(false);
  let certifying = $state(false);
  let until = $state('');
  let alone = $state(false);
  const id = $props.id();
  let aloud = $state(false);
  let keeps = $state(false);
  let made = $state.raw<Schemas['Rotated']>();
  let said = $state('');

  async function rotate(because: string) {
    made = await ask(api.POST('/api/passwords/rotate', { body: { users: [user], aloud, keeps, because } }));
    said = [made.words, ...made.left.map((l) => `${l.target ?? l.user} ${l.name ?? ''}: ${l.words}`)].join('; ');
    follow(made.round.id);
  }
  async function key(because: string) {
    made = await ask(
      api.POST('/api/users/{id}/keys', { params: { path: { id: user } }, body: { until: until || undefined, alone, because } }),
    );
    said = made.words;
    follow(made.round.id);
  }
  async function certify(because: string) {
    made = await ask(api.POST('/api/users/{id}/certificates', { params: { path: { id: user } }, body: { because } }));
    said = made.words;
    mark++;
  }
  const simply = (what: 'unlock' | 'expire') => async (because: string) => {
    const body = { users: [user], because };
    const out = await ask(what === 'unlock' ? api.POST('/api/passwords/unlock', { body }) : api.POST('/api/passwords/expire', { body }));
    said = out.words;
    follow(out.round.id);
  };
  /** follow waits for a round's end, and says how it ended. */
  async function follow(id: number) {
    while (id) {
      await new Promise((f) => setTimeout(f, 400));
      mark++;
      const r = await ask(api.GET('/api/rounds/{id}', { params: { path: { id } } }));
      if (r.state === 'held') return;
      if (!r['ended-at']) continue;
      said = `round ${id} is ${r.state}`;
      await new Promise((f) => setTimeout(f, 300)); // what it set may be collected from now on
      mark++;
      return changed();
    }
  }
</script>

<h2 class="mt-8">Password and keys</h2>
<p class="mb-3 flex flex-wrap items-baseline gap-3">
  <Button size="xs" class="bg-ink text-paper rounded" onclick={() => (rotating = true)}>New password</Button>
  <Button size="xs" outline class="border-rule rounded border" onclick={() => (keying = true)}>New key</Button>
  <Button size="xs" outline class="border-rule rounded border" onclick={() => (certifying = true)}>New certificate</Button>
  <Button size="xs" outline class="border-rule rounded border" onclick={() => (unlocking = true)}>Unlock</Button>
  <Button size="xs" outline class="border-rule rounded border" onclick={() => (expiring = true)}>To be changed at the next sign-in</Button>
  <span role="status">{said}</span>
</p>
{#each made?.links ?? [] as l (l.handover.id)}<Link linked={l} />{/each}
<Handovers {user} {mark} />
<Because bind:open={rotating} title="A new password for {name}" verb="Make it" act={rotate}>
  {#snippet more()}
    <Checkbox bind:checked={aloud}>Easy to read out on a telephone</Checkbox>
    <Checkbox bind:checked={keeps}>It need not be changed at the first sign-in</Checkbox>
  {/snippet}
</Because>
<Because bind:open={keying} title="A key pair for {name}" verb="Make it" act={key}>
  {#snippet more()}
    <Label for={id}>Its last day, if it has one: a finding tells when it is near</Label>
    <Input {id} type="date" bind:value={until} />
    <Checkbox bind:checked={alone}>Withdraw all other keys of theirs with it</Checkbox>
  {/snippet}
</Because>
<Because bind:open={certifying} title="A client certificate for {name}, good for a year" verb="Issue it" act={certify} />
<Because bind:open={unlocking} title="Let {name} in again after wrong passwords" verb="Unlock" act={simply('unlock')} />
<Because bind:open={expiring} title="Have {name} change the password at the next sign-in" verb="Ask for it" act={simply('expire')} />
