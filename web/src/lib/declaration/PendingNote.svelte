<!-- Says beside something else that changes of guarded settings wait for approval: until then the old values count. -->
<script lang="ts">
  import { api, ask } from '../api/client';
  import { link } from '../router.svelte';
  import { count } from '../words';
  let waiting = $state(0);
  ask(api.GET('/api/revisions/pending')).then(
    (p) => (waiting = p.total),
    () => {},
  );
</script>

{#if waiting}<p class="bg-ochre-wash border-ochre mb-4 border-l-4 px-4 py-2" role="status">
    <a use:link href="/declaration"
      >{count(waiting, 'change of a guarded setting waits', 'changes of guarded settings wait')} for approval</a
    >; until then the old values are in force.
  </p>{/if}
