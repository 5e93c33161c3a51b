<script lang="ts">
  import type uPlot from 'uplot';
  import 'uplot/dist/uPlot.min.css';
  import type { StatisticsHour } from '../../api/statistics.ts';
  import { theme } from '../state/theme.svelte.ts';
  import { type Series, chartInWords, stacked, totalOf } from './chart.ts';

  /** Bars by the hour, with their sums above and a table behind them. The chart package is fetched when the first chart is shown. */
  const { title, hours, series }: { title: string; hours: readonly StatisticsHour[]; series: readonly Series[] } = $props();
  const HEIGHT = 120;
  const HOUR_SECONDS = 3600;
  let box: HTMLDivElement;
  const color = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();

  function options(paths: uPlot.Series.PathBuilder | undefined, width: number): uPlot.Options {
    const axis = {
      stroke: color('--color-base-content'),
      grid: { stroke: color('--color-base-300'), width: 1 },
      ticks: { show: false },
      font: '11px sans-serif',
    };
    return {
      width,
      height: HEIGHT,
      legend: { show: false },
      cursor: { show: false },
      scales: {
        x: { range: (_plot, first, last) => [first, last + HOUR_SECONDS] },
        y: { range: (_plot, _min, most) => [0, Math.max(4, most * 1.1)] },
      },
      axes: [
        {
          ...axis,
          size: 24,
          space: 60,
          values: (_plot, at) => at.map((one) => new Date(one * 1000).toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit' })),
        },
        { ...axis, size: 36, space: 30 },
      ],
      series: [
        {},
        ...series.map(({ tone }) => ({
          fill: color(`--color-${tone}`),
          stroke: 'transparent',
          width: 0,
          points: { show: false },
          ...(paths ? { paths } : {}),
        })),
      ],
    };
  }
  $effect(() => {
    void theme.current;
    const { x, heights } = stacked(hours, series);
    let plot: uPlot | null = null;
    let isGone = false;
    const resized = new ResizeObserver(() => plot?.setSize({ width: box.clientWidth, height: HEIGHT }));
    void import('uplot').then(({ default: Plot }) => {
      if (isGone) return;
      plot = new Plot(options(Plot.paths.bars?.({ size: [0.8, 40], align: 1 }), box.clientWidth), [x, ...heights], box);
      resized.observe(box);
    });
    return () => {
      isGone = true;
      resized.disconnect();
      plot?.destroy();
    };
  });
</script>

<figure class="min-w-0">
  <figcaption class="flex flex-wrap items-baseline gap-x-4 mb-1">
    <span class="font-semibold">{title}</span>
    {#each series as one (one.key)}<span class="text-sm"
        ><span class="inline-block size-2.5 mr-1" style:background={`var(--color-${one.tone})`} aria-hidden="true"></span><span
          class="font-semibold tabular-nums">{totalOf(hours, one)}</span
        >
        {one.label}</span
      >{/each}
  </figcaption>
  <div bind:this={box} role="img" aria-label={chartInWords(title, hours, series)} style:height={`${HEIGHT}px`}></div>
  <details class="text-sm">
    <summary class="cursor-pointer text-base-content/70">Show as a table</summary>
    <table class="list-table">
      <thead
        ><tr
          ><th>Hour</th>{#each series as one (one.key)}<th class="text-right">{one.label}</th>{/each}</tr
        ></thead
      >
      <tbody
        >{#each [...hours].reverse() as hour (hour.at)}<tr
            ><td data-label="Hour">{new Date(hour.at).toLocaleString('en-GB', { weekday: 'short', hour: '2-digit', minute: '2-digit' })}</td
            >{#each series as one (one.key)}<td class="text-right tabular-nums" data-label={one.label}>{hour[one.key]}</td>{/each}</tr
          >{/each}</tbody
      >
    </table>
  </details>
</figure>
