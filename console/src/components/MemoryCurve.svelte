<script lang="ts">
  import { api } from '../lib/api';
  import * as format from '../lib/format';
  import { Repeated } from '../lib/repeated.svelte';
  import Chart from './Chart.svelte';
  import Problem from './Problem.svelte';

  interface Props {
    tenant: string;
    namespace: string;
  }

  let { tenant, namespace }: Props = $props();

  const asked = new Repeated(() => api.memoryCurve(tenant, namespace), 10_000);
  const curve = $derived(asked.value);

  // From a thirtieth of the present memory on: less is nothing that anybody would choose.
  const least = $derived((curve?.now?.bytes ?? 0) / 30);
  const points = $derived.by(() => {
    const shown = (curve?.points ?? []).filter((point) => point.bytes > 0 && point.bytes >= least);
    const isBeyond = curve?.now && curve.now.bytes > (shown.at(-1)?.bytes ?? 0);
    return isBeyond && curve?.now ? [...shown, curve.now] : shown;
  });
  /** The powers of two within the points, at most eight. */
  const marks = $derived.by(() => {
    const all = Array.from({ length: 50 }, (_, power) => 2 ** power);
    const within = all.filter((bytes) => bytes >= (points[0]?.bytes ?? 0) && bytes <= (points.at(-1)?.bytes ?? 0));
    return within.filter((_, at) => at % Math.ceil(within.length / 8) === 0);
  });
</script>

<section aria-labelledby="memory-curve-title" class="mt-6">
  <h2 id="memory-curve-title" class="border-b border-base-300 pb-1 font-semibold">What would more memory buy?</h2>
  <Problem message={asked.problem} onretry={asked.load} />
  {#if curve}
    <p class="py-1 text-sm" data-memory-curve>
      {#each curve.remarks as remark (remark)}{remark}{' '}{/each}
      {#if curve.now && curve.measured_hit_ratio != null}
        Expected with the present {format.bytes(curve.now.bytes)}: {format.share(curve.now.hit_ratio)}; measured over the
        last five minutes: {format.share(curve.measured_hit_ratio)} of {format.rate(curve.reads_per_second)}.
      {/if}
      {#if curve.observed_seconds > 0}
        Observed for {format.time(curve.observed_seconds)}: {format.count(curve.sampled_reads)} reads of
        {format.count(curve.sampled_keys)} sampled keys, {format.share(curve.sampled_fraction)} of all;
        {format.share(curve.known_share)} of the reads are of {format.count(curve.known_keys)} keys known by their rate.
      {/if}
    </p>
    {#if points.length > 1}
      <h3 class="text-sm font-medium">Hit ratio by memory, with its range of error</h3>
      <Chart
        summary="Expected hit ratio with {format.bytes(points[0]?.bytes ?? 0)} to {format.bytes(points.at(-1)?.bytes ?? 0)} of memory"
        x={points.map((point) => point.bytes)}
        lines={[
          { label: 'hit ratio', values: points.map((point) => point.hit_ratio), color: '--lane-cached' },
          { label: 'at least', values: points.map((point) => Math.max(point.hit_ratio - point.error, 0)), color: '--color-base-content', thin: true },
          { label: 'at most', values: points.map((point) => Math.min(point.hit_ratio + point.error, 1)), color: '--color-base-content', thin: true },
        ]}
        height={190}
        top={1}
        write={format.share}
        writeX={format.bytes}
        marksX={marks}
        logarithmicX
        marks={curve.now ? [{ x: curve.now.bytes, text: `now ${format.bytes(curve.now.bytes)}` }] : []}
      />
    {/if}
  {:else if !asked.problem}
    <p class="py-3 text-sm">Loading.</p>
  {/if}
</section>
