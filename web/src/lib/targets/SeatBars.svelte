<script lang="ts">
  // A bar for each pool of seats: those taken as declared, those taken beside, those to spare.
  import { bars, type Bar } from './bars';
  let { list, words }: { list: Bar[]; words: string } = $props();

  // A colour of ours as the plotting library can take it.
  function shade(name: string) {
    const probe = document.body.appendChild(document.createElement('span'));
    probe.style.color = `var(--${name})`;
    const colour = getComputedStyle(probe).color;
    probe.remove();
    return colour;
  }

  // The plotting library is loaded only where something is drawn.
  function draw(canvas: HTMLCanvasElement, list: Bar[]) {
    let gone = false;
    let chart: { destroy(): void } | undefined;
    import('chart.js').then(({ Chart, BarController, BarElement, CategoryScale, LinearScale, Tooltip }) => {
      if (gone) return;
      Chart.register(BarController, BarElement, CategoryScale, LinearScale, Tooltip);
      const ink = shade('ink');
      const font = { family: 'IBM Plex Sans', size: 13 };
      chart = new Chart(canvas, {
        type: 'bar',
        data: {
          labels: list.map((x) => x.name),
          datasets: bars.map((x) => ({ label: x.label, data: list.map(x.of), backgroundColor: shade(x.colour), barThickness: 16 })),
        },
        options: {
          indexAxis: 'y',
          animation: false,
          maintainAspectRatio: false,
          scales: {
            x: { stacked: true, grid: { display: false }, ticks: { color: ink, precision: 0, font } },
            y: { stacked: true, grid: { display: false }, ticks: { color: ink, font } },
          },
        },
      });
    });
    return {
      destroy() {
        gone = true;
        chart?.destroy();
      },
    };
  }
</script>

<p class="text-soft mb-1 flex gap-4 text-sm">
  {#each bars as x (x.label)}<span
      ><span class="mr-1 inline-block size-3 align-[-1px]" style:background={`var(--${x.colour})`}></span>{x.label}</span
    >{/each}
</p>
<div class="relative max-w-3xl" role="img" aria-label={words} style:height={`${list.length * 34 + 34}px`}>
  <canvas use:draw={list}></canvas>
</div>
