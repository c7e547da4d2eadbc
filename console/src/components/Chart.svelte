<script lang="ts" module>
  export interface Line {
    label: string;
    values: (number | null)[];
    /** A CSS custom property that holds the color. */
    color: string;
    dashed?: boolean;
    /** Fill the area below. */
    filled?: boolean;
  }
</script>

<script lang="ts">
  import { onMount } from 'svelte';
  import uPlot from 'uplot';
  import 'uplot/dist/uPlot.min.css';
  import { theme } from '../lib/theme.svelte';

  interface Props {
    /** What the chart shows, for those who cannot see it. */
    summary: string;
    x: number[];
    lines: Line[];
    height: number;
    logarithmic?: boolean;
    /** Writes a value of the vertical axis. */
    write: (value: number) => string;
    /** Whether x is a time of day, or seconds since a start. */
    clock?: boolean;
    /** The seconds that the horizontal axis always spans. */
    span?: [number, number];
    /** Whether a value holds until the next one, as counts do. */
    stepped?: boolean;
  }

  let {
    summary,
    x,
    lines,
    height,
    logarithmic = false,
    write,
    clock = false,
    span,
    stepped = false,
  }: Props = $props();
  let holder: HTMLDivElement;
  let chart: uPlot | null = null;

  function color(property: string): string {
    return getComputedStyle(document.documentElement).getPropertyValue(property).trim();
  }

  function powersOfTen(low: number, high: number): number[] {
    const first = Math.ceil(Math.log10(low) - 1e-9);
    const last = Math.floor(Math.log10(high) + 1e-9);
    // Through text, since 10 ** -2 is not quite 0.01.
    return Array.from({ length: last - first + 1 }, (_, n) => Number(`1e${first + n}`));
  }

  function data(): uPlot.AlignedData {
    // A logarithmic scale has no place for zero.
    const fit = (v: number | null) => (logarithmic && v !== null && v <= 0 ? null : v);
    return [x, ...lines.map((line) => line.values.map(fit))] as uPlot.AlignedData;
  }

  /** Seconds since a start; milliseconds where all of it is less than a second. */
  function since(seconds: number): string {
    if (span && span[1] <= 1) return `${Math.round(seconds * 1000)} ms`;
    return `${Number.isInteger(seconds) ? seconds : seconds.toFixed(1)} s`;
  }

  /** The time of day, to the second. */
  function clockTime(seconds: number): string {
    return new Date(seconds * 1000).toLocaleTimeString('en-GB');
  }

  function draw() {
    chart?.destroy();
    const ink = color('--color-base-content');
    const grid = { stroke: color('--color-base-300'), width: 1 };
    const axis = { stroke: ink, grid, ticks: grid, font: '12px system-ui, sans-serif' };
    chart = new uPlot(
      {
        width: holder.clientWidth,
        height,
        padding: [8, 22, 0, 0],
        legend: { show: false },
        cursor: { y: false, points: { size: 6 } },
        scales: {
          x: { time: clock, range: span ? () => span : undefined },
          y: {
            distr: logarithmic ? 3 : 1,
            range: logarithmic
              ? (_, low, high) => [
                  10 ** Math.floor(Math.log10(low || 0.01)),
                  10 ** Math.ceil(Math.log10((high || 1) * 1.01)),
                ]
              : (_, __, high) => [0, Math.max(high * 1.15, 1)],
          },
        },
        axes: [
          {
            ...axis,
            size: 30,
            space: clock ? 80 : 50,
            values: (_, splits) => splits.map(clock ? clockTime : since),
          },
          {
            ...axis,
            // 20 pixels for the tick and gap, and what the longest text takes at 12 pixels.
            size: (_, texts) => Math.max(74, 20 + 7.5 * Math.max(0, ...(texts ?? []).map((text) => text.length))),
            splits: logarithmic ? (_, __, low, high) => powersOfTen(low, high) : undefined,
            values: (_, splits) => splits.map((v) => (v === null ? '' : write(v))),
          },
        ],
        series: [
          {},
          ...lines.map((line) => ({
            label: line.label,
            stroke: color(line.color),
            width: 2.5,
            dash: line.dashed ? [8, 5] : undefined,
            fill: line.filled ? `${color(line.color)}22` : undefined,
            spanGaps: true,
            paths: stepped ? uPlot.paths.stepped?.({ align: 1 }) : undefined,
            points: { show: x.length < 3 },
          })),
        ],
      },
      data(),
      holder,
    );
  }

  onMount(() => {
    const resized = new ResizeObserver(() => {
      if (chart && holder.clientWidth > 0) chart.setSize({ width: holder.clientWidth, height });
    });
    resized.observe(holder);
    return () => {
      resized.disconnect();
      chart?.destroy();
    };
  });

  // Colors and dashes are fixed when a chart is made; new values only move it.
  $effect(() => {
    void theme.name;
    void height;
    void stepped;
    void lines.map((line) => line.label).join();
    draw();
  });

  $effect(() => {
    const next = data();
    chart?.setData(next);
  });
</script>

<div bind:this={holder} role="img" aria-label={summary} class="w-full min-w-0 overflow-hidden"></div>
