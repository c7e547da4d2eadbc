<script lang="ts">
  import type { LoadRun } from '../lib/api';
  import * as format from '../lib/format';
  import { load } from '../lib/pages';
  import type { LaneLook } from '../lib/load-series';
  import Heading from './Heading.svelte';

  let { run, looks }: { run: LoadRun; looks: LaneLook[] } = $props();

  const isActive = $derived(run.state === 'running');
  const measured = $derived(run.report && run.report.measured_seconds > 0 ? run.report : null);
  const compared = $derived(measured?.comparisons[0]);
  const faster = $derived(compared?.times_faster_p50);
  const styleOf = (name: string) => looks.find((look) => look.name === name)?.style ?? '';
  const p50Of = (name: string) => measured?.lanes.find((lane) => lane.name === name)?.figures.p50_ms;
</script>

{#if measured && measured.doubts?.length && !isActive}
  <Heading question={load.question} answer="Not comparable">
    {#each measured.doubts as doubt (doubt.kind + doubt.detail)}<span class="block" data-doubt={doubt.kind}>{doubt.detail}.</span>{/each}
  </Heading>
{:else if measured && compared && faster}
  <Heading question={load.question} answer="{format.times(faster >= 1 ? faster : 1 / faster)} {faster >= 1 ? 'faster' : 'slower'}">
    at the median: <strong class={styleOf(compared.lane)}>{format.milliseconds(p50Of(compared.lane))}</strong>
    {compared.lane} against
    <strong class={styleOf(compared.against)}>{format.milliseconds(p50Of(compared.against))}</strong> {compared.against}, with
    {format.times(compared.times_throughput)} the requests each second{#if compared.throughput_interval}
      {' '}({format.times(compared.throughput_interval.low)} to {format.times(compared.throughput_interval.high)} with 95 % confidence){/if}.
  </Heading>
{:else if isActive}
  <Heading question={load.question} answer="…">Warming up; figures are taken afterwards.</Heading>
{:else}
  <Heading question={load.question} answer="Not measured">It ended before it measured anything.</Heading>
{/if}
