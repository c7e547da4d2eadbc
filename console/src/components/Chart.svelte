<script lang="ts" module>
  export interface Line {
    label: string;
    values: (number | null)[];
    /** A CSS custom property that holds the color. */
    color: string;
    dashed?: boolean;
    /** Fill the area below. */
    filled?: boolean;
    /** One that only accompanies another. */
    thin?: boolean;
  }

  const POWERS_OF_TWO = Array.from({ length: 60 }, (_, n) => 2 ** n);

  /** Seconds and minutes that people count in, for times since a start. */
  const SPANS_OF_TIME = [0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200];
</script>

<script lang="ts">
  import { Maximize2, Pause, Play } from '@lucide/svelte';
  import { onMount } from 'svelte';
  import uPlot from 'uplot';
  import 'uplot/dist/uPlot.min.css';
  import * as chartView from '../lib/chart-view';
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
    /** Whether new values come all the time, so that it can be paused. */
    live?: boolean;
    /** Writes a place on the horizontal axis, if it is neither a time of day nor seconds. */
    writeX?: (x: number) => string;
    /** The places on the horizontal axis that have a mark, if not all that fit. */
    marksX?: number[];
    logarithmicX?: boolean;
    /** Whether the vertical axis counts in powers of two, as bytes do. */
    binary?: boolean;
    /** Whether missing values leave a gap. */
    gaps?: boolean;
    /** Where the vertical axis ends, if not a little above the highest value. */
    top?: number;
    /** Places on the horizontal axis that are marked. */
    marks?: { x: number; text: string }[];
    /** Stretches of the horizontal axis that have a name. */
    bands?: { from: number; to: number; text: string; muted: boolean }[];
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
    live = false,
    writeX,
    marksX,
    logarithmicX = false,
    binary = false,
    gaps = false,
    top,
    marks = [],
    bands = [],
  }: Props = $props();
  let holder: HTMLDivElement;
  let chart: uPlot | null = null;
  let at = $state<number | null>(null);
  let isByKey = $state(false);
  let zoom = $state.raw<[number, number] | null>(null);
  /** What is shown while it is paused. */
  let frozen = $state.raw<{ x: number[]; lines: Line[] } | null>(null);

  const shown = $derived(frozen ?? { x, lines });
  const place = (value: number) => (writeX ?? (clock ? clockTime : since))(value);
  const readout = $derived(at === null ? '' : chartView.readout(shown.x, shown.lines, at, place, write));

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
    return [shown.x, ...shown.lines.map((line) => line.values.map(fit))] as uPlot.AlignedData;
  }

  /** Seconds since a start; milliseconds where all of it is less than a second. */
  function since(seconds: number): string {
    if (span && span[1] <= 1) return `${Math.round(seconds * 1000)} ms`;
    if (span && span[1] > 300) {
      const [minutes, rest] = [Math.floor(seconds / 60), Math.round(seconds % 60)];
      return rest === 0 ? `${minutes} min` : `${minutes} min ${rest} s`;
    }
    return `${Number.isInteger(seconds) ? seconds : seconds.toFixed(1)} s`;
  }

  /** The time of day, to the second. */
  function clockTime(seconds: number): string {
    return new Date(seconds * 1000).toLocaleTimeString('en-GB');
  }

  /** The stretches, behind the lines: every second one shaded, each with its name where it fits. */
  function drawBands(of: uPlot) {
    const { left, top, width, height } = of.bbox;
    const pen = of.ctx;
    pen.save();
    pen.font = `${12 * devicePixelRatio}px system-ui, sans-serif`;
    bands.forEach((band, number) => {
      const from = Math.max(of.valToPos(band.from, 'x', true), left);
      const to = Math.min(of.valToPos(band.to, 'x', true), left + width);
      if (to <= from) return;
      pen.fillStyle = color('--color-base-content');
      pen.globalAlpha = band.muted ? 0.1 : number % 2 === 1 ? 0.04 : 0;
      pen.fillRect(from, top, to - from, height);
      pen.globalAlpha = 0.75;
      const gap = 4 * devicePixelRatio;
      if (pen.measureText(band.text).width + 2 * gap < to - from) {
        pen.fillText(band.text, from + gap, top + height - gap);
      }
    });
    pen.restore();
  }

  /** Vertical lines, each with its text on the side where there is room, and lower than the one
   * before, so that neighbors can be read. */
  function drawMarks(of: uPlot) {
    marks.forEach((mark, number) => drawMark(of, mark, number % 6));
  }

  function drawMark(of: uPlot, mark: { x: number; text: string }, row: number) {
    const x = of.valToPos(mark.x, 'x', true);
    const { left, top, width, height } = of.bbox;
    if (x < left || x > left + width) return;
    const pen = of.ctx;
    pen.save();
    pen.strokeStyle = pen.fillStyle = color('--color-base-content');
    pen.setLineDash([2 * devicePixelRatio, 3 * devicePixelRatio]);
    pen.lineWidth = 1.5 * devicePixelRatio;
    pen.beginPath();
    pen.moveTo(x, top);
    pen.lineTo(x, top + height);
    pen.stroke();
    pen.font = `${12 * devicePixelRatio}px system-ui, sans-serif`;
    const gap = 5 * devicePixelRatio;
    const isRight = x + gap + pen.measureText(mark.text).width < left + width;
    pen.textAlign = isRight ? 'left' : 'right';
    // A single mark stands at the foot; several hang below each other from the top.
    const line = 15 * devicePixelRatio;
    const y = marks.length === 1 ? top + height - gap : top + (row + 1) * line;
    const at = isRight ? x + gap : x - gap;
    const wide = pen.measureText(mark.text).width;
    pen.globalAlpha = 0.8;
    pen.fillStyle = color('--color-base-100');
    pen.fillRect(isRight ? at : at - wide, y - line + gap / 2, wide, line);
    pen.globalAlpha = 1;
    pen.fillStyle = color('--color-base-content');
    pen.fillText(mark.text, at, y);
    pen.restore();
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
        padding: [8, 34, 0, 0],
        legend: { show: false },
        cursor: { y: false, points: { size: 6 }, drag: { x: true, y: false, setScale: false } },
        hooks: {
          drawClear: [drawBands],
          draw: [drawMarks],
          setCursor: [
            (of) => {
              if (!isByKey) at = of.cursor.idx ?? null;
            },
          ],
          setSelect: [
            (of) => {
              const { left, width } = of.select;
              if (width < 5) return;
              zoom = [of.posToVal(left, 'x'), of.posToVal(left + width, 'x')];
              of.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false);
            },
          ],
        },
        scales: {
          x: {
            time: clock,
            distr: logarithmicX ? 3 : 1,
            range: (_, low, high) => zoom ?? span ?? [low, high],
          },
          y: {
            distr: logarithmic ? 3 : 1,
            range: logarithmic
              ? (_, low, high) => [
                  10 ** Math.floor(Math.log10(low || 0.01)),
                  10 ** Math.ceil(Math.log10((high || 1) * 1.01)),
                ]
              : (_, __, high) => [0, top ?? Math.max(high * 1.15, 1)],
          },
        },
        axes: [
          {
            ...axis,
            size: 30,
            space: clock ? 80 : 50,
            incrs: clock || writeX || (span && span[1] <= 1) ? undefined : SPANS_OF_TIME,
            splits: marksX ? () => marksX : undefined,
            // A logarithmic axis would label the powers of ten alone.
            filter: marksX ? (_, splits) => splits : undefined,
            values: (_, splits) => splits.map((v) => (v === null ? '' : place(v))),
          },
          {
            ...axis,
            // 20 pixels for the tick and gap, and what the longest text takes at 12 pixels.
            size: (_, texts) => Math.max(74, 20 + 7.5 * Math.max(0, ...(texts ?? []).map((text) => text.length))),
            incrs: binary ? POWERS_OF_TWO : undefined,
            splits: logarithmic ? (_, __, low, high) => powersOfTen(low, high) : undefined,
            values: (_, splits) => splits.map((v) => (v === null ? '' : write(v))),
          },
        ],
        series: [
          {},
          ...lines.map((line) => ({
            label: line.label,
            stroke: color(line.color),
            width: line.thin ? 1 : 2.5,
            dash: line.thin ? [2, 3] : line.dashed ? [8, 5] : undefined,
            fill: line.filled ? `${color(line.color)}22` : undefined,
            spanGaps: !gaps,
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

  function show(index: number) {
    [at, isByKey] = [index, true];
    const left = chart?.valToPos(shown.x[index] ?? 0, 'x') ?? 0;
    chart?.setCursor({ left, top: 0 }, false);
  }

  function onkeydown(event: KeyboardEvent) {
    const moved = chartView.moved(event.key, at, shown.x.length);
    const zoomed = chartView.zoomed(event.key, zoom, shown.x, at);
    if (moved !== null) show(moved);
    else if (zoomed !== undefined) zoom = zoomed;
    else return;
    event.preventDefault();
  }

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
    void zoom;
    void marks;
    void bands;
    chart?.setData(next);
  });
</script>

<div class="relative">
  <div class="absolute top-0 right-5 z-10 flex items-center gap-1">
    <output class="bg-base-100/85 px-1 text-xs tabular-nums" aria-live={isByKey ? 'polite' : 'off'} data-readout>{readout}</output>
    {#if zoom}
      <button class="btn btn-xs btn-square" aria-label="Show the whole chart" title="Show all" onclick={() => (zoom = null)}>
        <Maximize2 size={13} />
      </button>
    {/if}
    {#if live}
      <button
        class="btn btn-xs btn-square btn-ghost"
        aria-label={frozen ? 'Go on' : 'Pause'}
        aria-pressed={frozen !== null}
        title={frozen ? 'Go on' : 'Pause'}
        onclick={() => (frozen = frozen ? null : { x, lines })}
      >
        {#if frozen}<Play size={13} />{:else}<Pause size={13} />{/if}
      </button>
    {/if}
  </div>
  <!-- svelte-ignore a11y_no_noninteractive_tabindex, a11y_no_noninteractive_element_interactions -->
  <div
    bind:this={holder}
    role="img"
    aria-label="{summary}. Arrow keys show values, plus and minus zoom, Escape shows all."
    tabindex="0"
    class="w-full min-w-0 overflow-hidden"
    {onkeydown}
    onpointermove={() => (isByKey = false)}
    onpointerleave={() => (at = isByKey ? at : null)}
    ondblclick={() => (zoom = null)}
  ></div>
</div>
