<!-- A sheet for each person, to be printed: what is on it is shown this once. -->
<script lang="ts">
  import type { Schemas } from '../api/client';
  import Act from '../ui/Act.svelte';
  let { sheets, close }: { sheets: Schemas['Shown'][]; close: () => void } = $props();
</script>

<div class="sheets" role="dialog" aria-label="Sheets to print" aria-modal="true">
  <p class="bar">
    <Act onclick={() => print()}>Print</Act>
    <Act onclick={close}>Close: they cannot be shown again</Act>
  </p>
  {#each sheets as s (s.handover)}
    <section>
      <h1 dir="auto">For {s.name}</h1>
      <p>
        This is your {s.what}. It is printed this once, and kept nowhere else. Keep this sheet to yourself, and destroy it when you have
        signed in.
      </p>
      <p class="value">{s.value}</p>
      <table>
        <thead><tr><th>where</th><th>sign in as</th></tr></thead>
        <tbody
          >{#each s.accounts as a (a.target + a.name)}<tr><td>{a.target}</td><td>{a.name}</td></tr>{/each}</tbody>
      </table>
      {#if s.change}<p>You will be asked to change it when you sign in first.</p>{/if}
    </section>
  {/each}
</div>

<style>
  .sheets {
    position: fixed;
    inset: 0;
    z-index: 50;
    overflow: auto;
    background: #fff;
    color: #22303a;
    padding: 2rem;
  }
  .bar {
    display: flex;
    gap: 2rem;
  }
  section {
    max-width: 40rem;
    border-top: 1px solid #ddd5c4;
    padding: 2rem 0;
    break-after: page;
  }
  .value {
    font: 1.3rem/1.5 var(--font-mono);
    border: 1px solid #22303a;
    padding: 0.6rem 1rem;
    overflow-wrap: anywhere;
    white-space: pre-wrap;
  }
  th,
  td {
    text-align: left;
    padding: 0.2rem 1.5rem 0.2rem 0;
  }
  @media print {
    .bar {
      display: none;
    }
    .sheets {
      position: static;
      padding: 0;
    }
    :global(header),
    :global(main > *:not(.sheets)) {
      display: none;
    }
  }
</style>
