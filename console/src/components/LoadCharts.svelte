<script lang="ts">
  import type { LoadRun } from '../lib/api';
  import * as format from '../lib/format';
  import * as series from '../lib/load-series';
  import Chart from './Chart.svelte';
  import LaneTable from './LaneTable.svelte';

  let { run, looks }: { run: LoadRun; looks: series.LaneLook[] } = $props();

  let percentile = $state<series.Percentile>('p50_ms');

  const ticks = $derived(run.ticks ?? []);
  const x = $derived(ticks.map((tick) => tick.at_seconds));
  const span = $derived(series.spanOf(run));
  const bands = $derived(series.bandsOf(run));
  const marks = $derived((run.marks ?? []).map(({ at_seconds, text }) => ({ x: at_seconds, text })));
  const live = $derived(run.state === 'running');
  const measured = $derived(run.report && run.report.measured_seconds > 0 ? run.report : null);
  const curves = $derived(series.curvesOf(run, looks));
  const percentileName = $derived(series.PERCENTILES.find(({ key }) => key === percentile)?.name);
  /** The clocks of the service beside those of the clients. */
  const clocks = $derived.by(() => {
    if (percentile !== 'p50_ms' && percentile !== 'p99_ms') return [];
    const [hit, origin] = percentile === 'p50_ms' ? (['hit_p50_ms', 'origin_p50_ms'] as const) : (['hit_p99_ms', 'origin_p99_ms'] as const);
    return [
      { label: 'hits inside the service', values: ticks.map((t) => t.service?.[hit] ?? null), color: '--lane-third', thin: true },
      { label: 'origin as the service reads it', values: ticks.map((t) => t.service?.[origin] ?? null), color: '--lane-fifth', thin: true },
    ];
  });
  const processors = (value: number | null | undefined) => value ?? null;
</script>

<div class="mt-3 grid gap-x-6 gap-y-3 lg:grid-cols-[1fr_1fr_23rem]">
  <section aria-labelledby="latency-title">
    <div class="flex items-center gap-3">
      <h2 id="latency-title" class="font-semibold">Latency</h2>
      <div class="join" role="radiogroup" aria-label="Percentile">
        {#each series.PERCENTILES as { key, name } (key)}
          <input class="btn join-item btn-xs" type="radio" name="percentile" aria-label={name} value={key} bind:group={percentile} />
        {/each}
      </div>
    </div>
    <Chart
      summary="Latency ({percentileName}) of the lanes, second by second"
      {x}
      lines={[...series.linesOf(looks, ticks, (lane) => lane[percentile]), ...clocks]}
      height={230}
      {live}
      write={(v) => `${v} ms`}
      logarithmic
      {span}
      {marks}
      {bands}
      gaps
    />
    {#if clocks.length > 0}
      <p class="text-xs">
        Thin: <span class="lane-third">hits inside the service</span>,
        <span class="lane-fifth">the origin as the service reads it</span>.
      </p>
    {/if}
  </section>
  <section aria-labelledby="throughput-title">
    <h2 id="throughput-title" class="font-semibold">Requests answered each second</h2>
    <Chart
      summary="Throughput of the lanes, second by second"
      {x}
      lines={series.linesOf(looks, ticks, (lane) => lane.per_second)}
      height={230}
      {live}
      write={(v) => `${format.count(v)}/s`}
      logarithmic
      {span}
      {marks}
      {bands}
      gaps
    />
  </section>
  <section aria-label="Figures" class="lg:row-span-2">
    {#if measured}
      <LaneTable lanes={measured.lanes} {looks} />
    {:else}
      <p class="text-sm">Figures follow after the warm-up.</p>
    {/if}
    {#each measured?.errors ?? [] as { lane, kind, message, count } (`${lane} ${kind} ${message}`)}
      <p class="text-sm text-error">{format.count(count)} × {lane}, {kind}: {message}</p>
    {/each}
    {#each measured?.goals ?? [] as goal (goal.goal)}
      <p class="text-sm" class:text-error={!goal.is_met}>
        {goal.is_met ? '✓ met' : '✗ missed'}: {goal.goal}{goal.measured == null ? '' : ` (${goal.measured.toFixed(2)})`}
      </p>
    {/each}
  </section>
  <section aria-labelledby="curve-title">
    <h2 id="curve-title" class="font-semibold">Distribution of the latencies</h2>
    {#if curves.x.length > 1}
      <Chart
        summary="Latencies of the lanes on a percentile axis"
        x={curves.x}
        lines={curves.lines}
        height={170}
        write={(v) => `${v} ms`}
        logarithmic
        writeX={series.writePercentile}
        marksX={series.PERCENTILE_MARKS.filter((place) => place <= (curves.x.at(-1) ?? 0))}
      />
    {:else}
      <p class="text-sm">It follows after the warm-up.</p>
    {/if}
  </section>
  <section aria-labelledby="machine-title">
    <h2 id="machine-title" class="font-semibold">Hits, and what the machine does</h2>
    <Chart
      summary="Hit ratio and errors of the lanes, processors used by the service and the generators, and time taken by the host"
      {x}
      lines={[
        ...series.linesOf(looks, ticks, (lane) => lane.hit_ratio).filter((_, n) => (run.profile.lanes ?? [])[n]?.reads === 'cache').map((line) => ({ ...line, label: `${line.label} hits` })),
        { label: 'service', values: ticks.map((t) => processors(t.machine?.service_processors)), color: '--lane-third' },
        { label: 'generators', values: ticks.map((t) => processors(t.machine?.generator_processors)), color: '--lane-fourth', dashed: true },
        { label: 'taken by the host', values: ticks.map((t) => processors(t.machine?.stolen)), color: '--lane-fifth', thin: true },
      ]}
      height={170}
      {live}
      write={(v) => v.toFixed(2)}
      {span}
      gaps
    />
    <p class="text-xs">
      Shares from 0 to 1; <span class="lane-third">service</span> and
      <span class="lane-fourth">generators</span> in processors;
      <span class="lane-fifth">taken by the host</span> as a share of all processors.
    </p>
  </section>
</div>
