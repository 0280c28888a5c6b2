<!-- A link to a handover, and the code beside it: they are shown this once. -->
<script lang="ts">
  import type { Schemas } from '../api/client';
  let { linked }: { linked: Schemas['Linked'] } = $props();
</script>

<div class="border-rule bg-sheet mb-4 border p-4">
  <p class="m-0">
    {linked.handover.name} collects it once at <span class="name wrap-anywhere select-all">{location.origin}{linked.link}</span>
  </p>
  <p class="m-0">
    with the code <span class="name select-all">{linked.code}</span>, told in another way. Neither can be seen again here.
  </p>
</div>
