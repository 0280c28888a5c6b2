<script lang="ts">
  // What a target tells of itself, in the words of its kind's schema.
  import { when } from '../words';

  let { details, called }: { details?: Record<string, string[]>; called: (attribute: string) => string } = $props();

  const day = 86400;
  const units: [number, string, number][] = [
    [365 * day, 'years', 730 * day],
    [day, 'days', 2 * day],
    [3600, 'hours', 7200],
    [60, 'minutes', 600],
    [1, 'seconds', 0],
  ];
  function clock(seconds: number) {
    if (seconds === 0) return 'right';
    const off = Math.abs(seconds);
    const [size, word] = units.find(([, , from]) => off >= from)!;
    return `${Math.round(off / size)} ${word} ${seconds > 0 ? 'ahead' : 'behind'}`;
  }
  const told = $derived(
    Object.entries(details ?? {})
      .filter(([a]) => a !== 'commits')
      .sort(([a], [b]) => a.localeCompare(b)),
  );
</script>

{#if told.length}
  <dl class="mb-6 flex flex-wrap gap-x-6 gap-y-1 text-sm" aria-label="What it tells of itself">
    {#each told as [attribute, values] (attribute)}
      <div class="flex gap-2">
        <dt class="text-soft">{called(attribute)}</dt>
        <dd class="wrap-anywhere">
          {#if attribute === 'clock-off'}
            <span class={values[0] === '0' ? '' : 'text-barn'}>{clock(Number(values[0]))}</span>
          {:else}
            {attribute === 'up-since' ? when(values[0]) : values.join(', ')}
          {/if}
        </dd>
      </div>
    {/each}
  </dl>
{/if}
{#if details?.commits}
  <h2>Who changed it last</h2>
  <ul class="mb-6 list-none p-0" aria-label="Changes">
    {#each details.commits as line, i (i)}<li class="border-rule border-b py-1 wrap-anywhere">{line}</li>{/each}
  </ul>
{/if}
