<script lang="ts">
  import type { LoadRun, RunComparison } from '../lib/api';
  import * as format from '../lib/format';
  import * as series from '../lib/load-series';
  import Chart from './Chart.svelte';
  import LoadDifferences from './LoadDifferences.svelte';

  let { before, after, comparison, onclose }: { before: LoadRun; after: LoadRun; comparison: RunComparison; onclose: () => void } = $props();

  const span = $derived<[number, number]>([0, Math.max(series.lengthOf(before), series.lengthOf(after))]);
  const latency = $derived(series.overlaid(before, after, (lane) => lane.p50_ms));
  const throughput = $derived(series.overlaid(before, after, (lane) => lane.per_second));
</script>

<section class="mt-4 rounded-box border border-base-300 p-3" aria-labelledby="overlay-title" data-overlay>
  <div class="flex items-center gap-3">
    <h2 id="overlay-title" class="font-semibold">
      Run {before.id} (thin) and run {after.id}: {before.profile.name}{after.profile.name === before.profile.name ? '' : ` and ${after.profile.name}`}
    </h2>
    <button class="btn btn-xs ml-auto" onclick={onclose}>Close</button>
  </div>
  <div class="grid gap-6 lg:grid-cols-2">
    <Chart
      summary="Median latency of both runs, second by second"
      x={latency.x}
      lines={latency.lines}
      height={190}
      write={(v) => `${v} ms`}
      logarithmic
      {span}
      gaps
    />
    <Chart
      summary="Throughput of both runs, second by second"
      x={throughput.x}
      lines={throughput.lines}
      height={190}
      write={(v) => `${format.count(v)}/s`}
      logarithmic
      {span}
      gaps
    />
  </div>
  <LoadDifferences {comparison} />
</section>
