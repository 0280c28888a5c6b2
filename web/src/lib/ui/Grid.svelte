<!-- A dense table: rules between the lines, no boxes. -->
<script lang="ts">
  import { Table, TableBody, TableHead, TableHeadCell } from 'flowbite-svelte';
  import type { Snippet } from 'svelte';
  let { head, children, label }: { head: (string | { figure: string })[]; children: Snippet; label: string } = $props();
</script>

<div class="overflow-x-auto">
  <Table aria-label={label} border={false} class="text-ink w-full border-collapse text-[14.5px]" divClass="">
    <TableHead class="text-soft border-rule border-b bg-transparent text-[13px] normal-case">
      {#each head as h (typeof h === 'string' ? h : h.figure)}
        <TableHeadCell class="px-0 py-1.5 font-medium whitespace-nowrap {typeof h === 'string' ? 'pr-4 text-left' : 'pr-6 text-right'}"
          >{typeof h === 'string' ? h : h.figure}</TableHeadCell>
      {/each}
    </TableHead>
    <TableBody>{@render children()}</TableBody>
  </Table>
</div>
