<script lang="ts">
  import { api } from '../lib/api';
  import * as format from '../lib/format';
  import { Repeated } from '../lib/repeated.svelte';
  import Chart from './Chart.svelte';
  import Problem from './Problem.svelte';

  interface Props {
    tenant: string;
    namespace: string;
    /** Takes the suggestion, if the session may. */
    ontake?: (seconds: number) => void;
  }

  let { tenant, namespace, ontake }: Props = $props();

  const asked = new Repeated(() => api.lifetimeAdvice(tenant, namespace), 10_000);
  const advice = $derived(asked.value);

  const points = $derived(advice?.points ?? []);
  const isSuggested = $derived(
    advice?.suggested_max_age_seconds != null && advice.suggested_max_age_seconds !== advice.max_age_seconds,
  );

  /** The same, with the tenths that small times need. */
  function time(seconds: number): string {
    return seconds < 10 ? `${Number(seconds.toFixed(1))} s` : format.time(seconds);
  }
</script>

<section aria-labelledby="advice-title" class="mt-6">
  <h2 id="advice-title" class="border-b border-base-300 pb-1 font-semibold">How long should entries live?</h2>
  <Problem message={asked.problem} onretry={asked.load} />
  {#if advice}
    <p class="py-1 text-sm" data-advice>
      {#if advice.suggested_max_age_seconds != null}
        Suggested max-age: <strong>{time(advice.suggested_max_age_seconds)}</strong>; now it is {time(advice.max_age_seconds)}.
      {/if}
      {#each advice.reasons as reason (reason)}{reason}{' '}{/each}
      {#if advice.origin_ms != null}An origin read takes {format.milliseconds(advice.origin_ms)} on average.{/if}
      Observed for {format.time(advice.observed_seconds)}: {format.count(advice.sampled_reads)} reads of
      {format.count(advice.sampled_keys)} keys, {format.share(advice.sampled_fraction)} of all keys.
    </p>
    {#if points.length > 1}
      <div class="grid gap-6 lg:grid-cols-2">
        <div>
          <h3 class="text-sm font-medium">Origin reads each second, by max-age</h3>
          <Chart
            summary="Expected origin reads per second for max-ages of {time(points[0]?.max_age_seconds ?? 0)} to {time(points.at(-1)?.max_age_seconds ?? 0)}"
            x={points.map((p) => p.max_age_seconds)}
            lines={[{ label: 'origin reads', values: points.map((p) => p.origin_reads_per_second), color: '--lane-direct', dashed: true }]}
            height={150}
            write={format.rate}
            writeX={time}
            marksX={points.map((p) => p.max_age_seconds)}
            logarithmicX
          />
        </div>
        <div>
          <h3 class="text-sm font-medium">Mean age of what readers see, by max-age</h3>
          <Chart
            summary="Expected mean age for max-ages of {time(points[0]?.max_age_seconds ?? 0)} to {time(points.at(-1)?.max_age_seconds ?? 0)}"
            x={points.map((p) => p.max_age_seconds)}
            lines={[{ label: 'mean age', values: points.map((p) => p.mean_age_seconds), color: '--lane-cached' }]}
            height={150}
            write={time}
            writeX={time}
            marksX={points.map((p) => p.max_age_seconds)}
            logarithmicX
          />
        </div>
      </div>
    {/if}
    {#if isSuggested && ontake}
      <button class="btn btn-sm mt-2" onclick={() => ontake(advice?.suggested_max_age_seconds ?? 0)}>
        Take {time(advice.suggested_max_age_seconds ?? 0)} as max-age
      </button>
    {/if}
  {:else if !asked.problem}
    <p class="py-3 text-sm">Loading.</p>
  {/if}
</section>
