<script lang="ts">
  import type { LoadRun } from '../lib/api';
  import * as format from '../lib/format';
  import { levelText, unitOf } from '../lib/load-profile';
  import * as series from '../lib/load-series';
  import Chart from './Chart.svelte';

  let { run, looks }: { run: LoadRun; looks: series.LaneLook[] } = $props();

  const unit = $derived(unitOf(run.profile));
  // What was due at a pace is known from its recording.
  const knee = $derived(unit === 'times the recorded pace' ? 'requests per second' : unit);
  const bent = $derived(series.bendOf(run, looks));
  const lanes = $derived((run.report?.lanes ?? []).flatMap((lane, n) => (lane.bend ? [{ lane, bend: lane.bend, look: looks[n] }] : [])));
</script>

<section class="mt-4 grid gap-6 lg:grid-cols-2" aria-labelledby="bend-title">
  <div>
    <h2 id="bend-title" class="font-semibold">Where it bends: throughput by {unit} in each lane</h2>
    <Chart
      summary="Throughput of the lanes by {unit}, measured and by the universal scalability law"
      x={bent.x}
      lines={bent.lines}
      height={230}
      write={(v) => `${format.count(v)}/s`}
      logarithmic
      logarithmicX
      writeX={(n) => `${n}`}
      marksX={bent.x}
    />
  </div>
  <ul class="flex flex-col gap-3 self-center">
    {#each lanes as { lane, bend, look } (lane.name)}
      <li data-bend={lane.name}>
        <strong class={look?.style}>{lane.name}</strong> bends at
        <strong>{levelText(knee, Math.round(bend.knee_level * 10) / 10)}</strong>: {format.rate(bend.knee_per_second)} at
        {format.milliseconds(bend.knee_ms)} on average; {series.limitOf(bend.limit)}.
        {#if bend.law}
          <span class="block text-sm">
            Contention {format.share(bend.law.contention)}
            ({format.share(bend.law.contention_range.low)} to {format.share(bend.law.contention_range.high)}),
            coherency {bend.law.coherency.toFixed(5)}
            ({bend.law.coherency_range.low.toFixed(5)} to {bend.law.coherency_range.high.toFixed(5)});
            the law is off by {format.share(bend.law.largest_error)} at most.
            {#if bend.law.peak_clients && bend.law.peak_per_second}
              Expected peak: {format.rate(bend.law.peak_per_second)} with {levelText(unit, Math.round(bend.law.peak_clients))}.
            {:else if bend.law.peak_per_second}
              It levels off towards {format.rate(bend.law.peak_per_second)}.
            {/if}
          </span>
        {/if}
        {#if !bend.law && (unit === 'clients' || unit === 'instances')}
          <span class="block text-sm">Its steps do not follow the scalability law.</span>
        {/if}
        {#if bend.declines}
          <span class="block font-medium text-error">More load lowers the throughput: the last step had less than an earlier one.</span>
        {/if}
      </li>
    {/each}
  </ul>
</section>
