<script lang="ts">
  import { api, messageOf, type UsageHistory, type UsagePoint } from '../lib/api';
  import { parameter, setParameters } from '../lib/address';
  import * as format from '../lib/format';
  import { perSecond, usageSeries } from '../lib/usage-series';
  import Chart from './Chart.svelte';
  import Problem from './Problem.svelte';

  interface Props {
    /** Whose; the whole service without a tenant. */
    tenant?: string;
    namespace?: string;
  }

  let { tenant = '', namespace = '' }: Props = $props();

  const HOUR = 3600;
  const RANGES = [
    { name: '1 h', seconds: HOUR },
    { name: '1 day', seconds: 24 * HOUR },
    { name: '31 days', seconds: 31 * 24 * HOUR },
    { name: '2 years', seconds: 730 * 24 * HOUR },
  ];

  let history = $state.raw<UsageHistory | null>(null);
  let problem = $state('');

  const range = $derived(RANGES.find((one) => one.name === parameter('range')) ?? RANGES[0]!);
  const series = $derived(history ? usageSeries(history) : null);
  const sum = (of: (point: UsagePoint) => number) => (history?.items ?? []).reduce((all, point) => all + of(point), 0);
  const reads = $derived(sum((p) => p.reads));
  const step = $derived(history ? format.time(history.step_seconds) : '');

  async function load() {
    try {
      // A little less than the range, so that the finest step still reaches back to its beginning.
      const since = new Date(Date.now() - (range.seconds - 5) * 1000);
      history = await api.usage(tenant, namespace, since);
      problem = '';
    } catch (error) {
      problem = messageOf(error);
    }
  }

  $effect(() => {
    void [range, tenant, namespace];
    void load();
    const again = setInterval(load, 10_000);
    return () => clearInterval(again);
  });

  /** The time of day, or the day where a slot is a long time. */
  function place(seconds: number): string {
    const at = new Date(seconds * 1000);
    const day = at.toLocaleDateString('en-CA').slice(5);
    if (range.seconds > 31 * 24 * HOUR) return at.toLocaleDateString('en-CA');
    const time = at.toLocaleTimeString('en-GB').slice(0, 5);
    return range.seconds > 24 * HOUR ? `${day} ${time}` : time;
  }
</script>

<section aria-labelledby="usage-title" class="mt-6">
  <div class="flex flex-wrap items-center gap-3 border-b border-base-300 pb-1">
    <h2 id="usage-title" class="grow font-semibold">Usage{tenant ? '' : ' of the whole service'}{tenant && !namespace ? ` of ${tenant}` : ''}</h2>
    <div class="join" role="group" aria-label="Range">
      {#each RANGES as one (one.name)}
        <button
          class="btn btn-xs join-item {one === range ? 'btn-active' : ''}"
          aria-pressed={one === range}
          onclick={() => setParameters({ range: one.name })}>{one.name}</button
        >
      {/each}
    </div>
  </div>
  <Problem message={problem} onretry={load} />
  {#if series && history && history.items.length > 0}
    <p class="py-1 text-sm" data-usage-summary>
      {format.count(reads)} reads, <strong>{format.share(reads > 0 ? sum((p) => p.hits) / reads : null)}</strong> of them hits,
      which saved <strong>{format.time(sum((p) => p.origin_saved_seconds))}</strong> of origin time. {format.count(sum((p) => p.evictions))}
      evicted, {format.count(sum((p) => p.expirations))} expired, {format.count(sum((p) => p.refusals))} refused. A point is {step}.
    </p>
    <div class="grid gap-6 lg:grid-cols-3">
      <div>
        <h3 class="text-sm font-medium">Memory</h3>
        <Chart
          summary="Memory over {range.name}, now {format.bytes(history.items.at(-1)?.bytes ?? 0)}"
          x={series.x}
          lines={[{ label: 'memory', values: series.of((p) => p.bytes), color: '--lane-cached', filled: true }]}
          height={150}
          write={format.bytes}
          binary
          writeX={place}
          clock
          gaps
        />
      </div>
      <div>
        <h3 class="text-sm font-medium">Reads each second, and those that went to an origin</h3>
        <Chart
          summary="Reads per second over {range.name}, {format.count(reads)} in all"
          x={series.x}
          lines={[
            { label: 'reads', values: series.of(perSecond((p) => p.reads)), color: '--lane-cached', filled: true },
            { label: 'origin', values: series.of(perSecond((p) => p.origin_reads)), color: '--lane-direct', dashed: true },
          ]}
          height={150}
          write={format.rate}
          writeX={place}
          clock
          gaps
        />
      </div>
      <div>
        <h3 class="text-sm font-medium">Bytes of values each second, sent and received</h3>
        <Chart
          summary="Bytes of values per second over {range.name}"
          x={series.x}
          lines={[
            { label: 'sent', values: series.of(perSecond((p) => p.sent_bytes)), color: '--lane-cached', filled: true },
            { label: 'received', values: series.of(perSecond((p) => p.received_bytes)), color: '--lane-direct', dashed: true },
          ]}
          height={150}
          write={(n) => `${format.bytes(Math.round(n))}/s`}
          binary
          writeX={place}
          clock
          gaps
        />
      </div>
    </div>
  {:else if history}
    <p class="py-3 text-sm">Nothing was counted in this time yet: the first figures come within ten seconds.</p>
  {:else if !problem}
    <p class="py-3 text-sm">Loading.</p>
  {/if}
</section>
