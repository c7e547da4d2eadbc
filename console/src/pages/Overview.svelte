<script lang="ts">
  import * as format from '../lib/format';
  import { feed } from '../lib/session.svelte';
  import { hitRatio, total } from '../lib/live-figures';
  import { overview } from '../lib/pages';
  import { average } from '../lib/averages';
  import Heading from '../components/Heading.svelte';
  import Chart from '../components/Chart.svelte';
  import MemoryBar from '../components/MemoryBar.svelte';
  import NamespaceTable from '../components/NamespaceTable.svelte';

  const samples = $derived(feed.samples);
  const latest = $derived(feed.latest);
  const x = $derived(samples.map((s) => Date.parse(s.at) / 1000));
  const reads = $derived(samples.map((s) => total(s, (n) => n.reads_per_second)));
  const origin = $derived(samples.map((s) => total(s, (n) => n.origin_calls_per_second)));
  const recent = $derived(samples.slice(-10));
  const rows = $derived(average(recent));
  const readRate = $derived(rows.reduce((sum, r) => sum + r.readsPerSecond, 0));
  const originRate = $derived(rows.reduce((sum, r) => sum + r.originPerSecond, 0));
  const failures = $derived(rows.reduce((sum, r) => sum + r.originErrors, 0));
  const ratio = $derived.by(() => {
    const all = recent.reduce((sum, s) => sum + total(s, (n) => n.reads), 0);
    return all > 0 ? recent.reduce((sum, s) => sum + total(s, (n) => n.hits), 0) / all : null;
  });
  const hit = $derived(recent.findLast((s) => s.hit_latency)?.hit_latency);
  const slow = $derived(samples.findLast((s) => s.origin_latency)?.origin_latency);
  const healthy = $derived(feed.connected && (latest?.records_available ?? true) && failures === 0);
  const summary = $derived(
    !feed.connected
      ? 'No data'
      : latest && !latest.records_available
        ? 'Degraded'
        : failures > 0
          ? 'Origin errors'
          : 'Healthy',
  );
  const others = $derived.by(() => {
    if (!latest || latest.standbys + latest.away === 0) return '';
    const away = latest.away > 0 ? `; ${latest.away} away` : '';
    if (latest.standbys === 0) return `No standby node${away}.`;
    const nodes = latest.standbys === 1 ? 'standby node is' : 'standby nodes are';
    return `${latest.standbys} ${nodes} ready to take over${away}.`;
  });
</script>

{#if !latest}
  <Heading question={overview.question} answer="…">Waiting for the first second of data.</Heading>
{:else}
  <Heading question={overview.question} answer={summary} good={healthy}>
    {format.rate(readRate).replace('/s', '')} reads/s, <strong>{format.share(ratio)}</strong> of them hits. A hit takes
    <strong>{format.milliseconds(hit?.p50_ms)}</strong> within the service, a read of the origin
    <strong>{format.milliseconds(slow?.p50_ms)}</strong>.
  </Heading>

  {#if others}
    <p class="mb-3" data-figure="standbys">
      <span class={latest.standbys === 0 ? 'font-semibold text-warning' : ''}>{others}</span>
    </p>
  {/if}

  <dl class="grid grid-cols-2 border-y border-base-300 md:grid-cols-[1fr_1fr_1.4fr_1fr_1.4fr]">
    {#each [['Reads', format.rate(readRate), 'reads'], ['Hit ratio', format.share(ratio), 'hit-ratio'], ['Hit p50 · p99', `${format.milliseconds(hit?.p50_ms)} · ${format.milliseconds(hit?.p99_ms)}`, 'hit-latency'], ['Origin calls', format.rate(originRate), 'origin-calls'], ['Origin p50 · p99', `${format.milliseconds(slow?.p50_ms)} · ${format.milliseconds(slow?.p99_ms)}`, 'origin-latency']] as [name, figure, id] (id)}
      <div class="border-base-300 px-3 py-2 max-md:last:col-span-2 md:not-first:border-l">
        <dt class="text-sm">{name}</dt>
        <dd class="text-lg font-semibold whitespace-nowrap sm:text-xl" data-figure={id}>{figure}</dd>
      </div>
    {/each}
  </dl>

  <div class="mt-4 grid gap-6 lg:grid-cols-2">
    <section aria-labelledby="reads-title">
      <h2 id="reads-title" class="font-semibold">
        Reads each second, and those that went to an origin
      </h2>
      <Chart
        summary="Reads per second over two minutes, now {format.rate(reads.at(-1) ?? 0)}; of the origin {format.rate(origin.at(-1) ?? 0)}"
        {x}
        lines={[
          { label: 'reads', values: reads, color: '--lane-cached', filled: true },
          { label: 'origin calls', values: origin, color: '--lane-direct', dashed: true },
        ]}
        height={200}
        write={format.rate}
        clock
        live
      />
      <p class="text-sm">
        <span class="lane-line lane-cached"></span> all reads
        <span class="lane-line lane-direct ml-4"></span> reads of an origin
      </p>
    </section>
    <section aria-labelledby="latency-title">
      <h2 id="latency-title" class="font-semibold">
        Median latency: a hit against a read of the origin (powers of ten)
      </h2>
      <Chart
        summary="Median latency over two minutes: hits {format.milliseconds(hit?.p50_ms)}, origin {format.milliseconds(slow?.p50_ms)}"
        {x}
        lines={[
          {
            label: 'hit p50',
            values: samples.map((s) => s.hit_latency?.p50_ms ?? null),
            color: '--lane-cached',
          },
          {
            label: 'origin p50',
            values: samples.map((s) => s.origin_latency?.p50_ms ?? null),
            color: '--lane-direct',
            dashed: true,
          },
        ]}
        height={200}
        write={(v) => `${v} ms`}
        logarithmic
        clock
        live
      />
      <p class="text-sm">
        <span class="lane-line lane-cached"></span> hit
        <span class="lane-line lane-direct ml-4"></span> origin
      </p>
    </section>
  </div>

  <section class="mt-4" aria-label="Memory">
    <MemoryBar sample={latest} />
    <NamespaceTable {samples} />
  </section>
  <p class="sr-only" aria-live="off">Hit ratio this second {format.share(hitRatio(latest))}</p>
{/if}
