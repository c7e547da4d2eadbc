<script lang="ts">
  import type { LoadRun } from '../lib/api';
  import * as format from '../lib/format';
  import * as series from '../lib/load-series';
  import LoadBend from './LoadBend.svelte';
  import LoadCharts from './LoadCharts.svelte';
  import LoadDifferences from './LoadDifferences.svelte';

  let { run, looks }: { run: LoadRun; looks: series.LaneLook[] } = $props();

  const measured = $derived(run.report && run.report.measured_seconds > 0 ? run.report : null);
</script>

<LoadCharts {run} {looks} />
{#if measured?.lanes.some((lane) => lane.bend)}
  <LoadBend {run} {looks} />
{/if}
{#if measured?.against_baseline}
  <section class="mt-4" aria-labelledby="baseline-title">
    <h2 id="baseline-title" class="font-semibold">
      Against the baseline, run {measured.against_baseline.before}:
      {#if measured.against_baseline.differences.some((difference) => difference.verdict === 'worse')}
        <span class="text-error" data-regression>a regression</span>
      {:else}
        no regression
      {/if}
    </h2>
    <LoadDifferences comparison={measured.against_baseline} />
  </section>
{/if}
{#if measured?.meanings?.length}
  <section class="mt-4" aria-labelledby="meaning-title">
    <h2 id="meaning-title" class="font-semibold">What it means</h2>
    <table class="table table-xs">
      <tbody>
        {#each measured.meanings as meaning (meaning.name)}
          <tr>
            <th scope="row" class="font-medium">{meaning.name}</th>
            <td class="text-right whitespace-nowrap">{format.count(meaning.value)} {meaning.unit}</td>
            <td>{meaning.formula}</td>
          </tr>
        {/each}
      </tbody>
    </table>
  </section>
{/if}
<p class="mt-2 text-sm">
  {#if run.profile.arrivals?.rate}
    Open loop: requests are due at a rate, and latencies count from when they were due.
  {:else if run.profile.arrivals?.recording}
    Open loop: requests are due when those of recording {run.profile.arrivals.recording} were, and latencies count from
    then.
  {:else}
    Closed loop: each client sends its next request after the response to the one before.
  {/if}
  Latencies as the clients saw them, on logarithmic scales.
</p>
