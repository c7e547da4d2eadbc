<script lang="ts">
  import { Play, Square } from '@lucide/svelte';
  import { onMount } from 'svelte';
  import { api, messageOf, type LoadProfile, type LoadRun } from '../lib/api';
  import * as format from '../lib/format';
  import { feed } from '../lib/session.svelte';
  import { RunFeed } from '../lib/run-feed.svelte';
  import { load } from '../lib/pages';
  import Heading from '../components/Heading.svelte';
  import Chart from '../components/Chart.svelte';
  import LaneTable from '../components/LaneTable.svelte';

  const current = new RunFeed<LoadRun>('/v1/load-runs', api.startLoadRun);
  let profiles = $state<LoadProfile[]>([]);
  let runs = $state<LoadRun[]>([]);
  let chosen = $state('');
  let problem = $state('');
  let asked = $state(false);

  async function refresh() {
    try {
      runs = await api.loadRuns();
    } catch (error) {
      problem = messageOf(error);
    }
  }

  onMount(() => {
    void (async () => {
      try {
        profiles = await api.loadProfiles();
        chosen = profiles[0]?.name ?? '';
      } catch (error) {
        problem = messageOf(error);
      }
      await refresh();
      asked = true;
      // A run that somebody else started is shown as it goes on.
      const first = runs[0];
      if (first && !current.run) current.follow(first, refresh);
    })();
    return () => current.stopFollowing();
  });

  const run = $derived(current.run);
  const report = $derived(run?.report ?? null);
  const ticks = $derived(run?.ticks ?? []);
  const profile = $derived(profiles.find((p) => p.name === chosen));
  const whole = $derived(
    run ? run.profile.warm_up_seconds! + run.profile.duration_seconds! : 10,
  );
  const x = $derived(ticks.map((t) => t.at_seconds));
  const faster = $derived(report?.comparison.times_faster_p50);
  const measured = $derived(report && report.measured_seconds > 0 ? report : null);
</script>

{#if measured && measured.doubts?.length && !current.running}
  <Heading question={load.question} answer="Not comparable">
    {#each measured.doubts as doubt (doubt.kind)}<span class="block" data-doubt={doubt.kind}>{doubt.detail}.</span>{/each}
  </Heading>
{:else if measured}
  <Heading question={load.question} answer="{format.times(faster)} faster">
    at the median: <strong class="lane-cached">{format.milliseconds(measured.cached.p50_ms)}</strong>
    cached against
    <strong class="lane-direct">{format.milliseconds(measured.direct.p50_ms)}</strong> direct, with
    {format.times(measured.comparison.times_throughput)} the reads each second{#if measured.comparison.throughput_interval}
      {' '}({format.times(measured.comparison.throughput_interval.low)} to {format.times(measured.comparison.throughput_interval.high)} with 95 % confidence){/if}.
  </Heading>
{:else if run && current.running}
  <Heading question={load.question} answer="…">Warming up; measuring starts after {run.profile.warm_up_seconds} s.</Heading>
{:else}
  <Heading question={load.question} answer="Not measured yet">
    Both lanes read the same keys in the same seconds: through Verax, and straight from the origin.
  </Heading>
{/if}

<div class="flex flex-wrap items-end gap-3 border-y border-base-300 py-3">
  <label class="flex flex-col gap-1">
    <span class="text-sm font-medium">Load profile</span>
    <select class="select min-w-52" bind:value={chosen} disabled={current.running}>
      {#each profiles as p (p.name)}<option value={p.name}>{p.name}</option>{/each}
    </select>
  </label>
  {#if current.running}
    <button class="btn btn-outline" onclick={() => current.ask(api.stopLoadRun)} disabled={current.starting}>
      <Square size={16} /> Stop the run
    </button>
  {:else}
    <button
      class="btn btn-primary"
      onclick={() => current.start(chosen, refresh)}
      disabled={!chosen || !feed.connected}
    >
      <Play size={16} /> Start the run
    </button>
  {/if}
  {#if profile}
    <p class="max-w-xl self-center text-sm">
      {profile.title}. {profile.clients} clients in each lane of {profile.namespace}, closed loop:
      {profile.warm_up_seconds} s of warm-up, then {profile.duration_seconds} s measured.
    </p>
  {:else if asked && profiles.length === 0}
    <p class="self-center text-sm">
      No load profiles. Start <code>verax serve</code> with a directory of them,
      <code>--load-profiles DIR</code>, or run one from a file: <code>verax load run FILE</code>.
    </p>
  {/if}
  {#if run}
    <p class="ml-auto self-center text-sm" aria-live="polite" data-run-state={run.state}>
      run {run.id}, {run.profile.name}:
      <strong>{run.state}</strong>
      {#if ticks.length > 0}
        {format.time(ticks.at(-1)?.at_seconds ?? 0)} of {format.time(whole)}
      {/if}
    </p>
  {/if}
</div>
{#if current.error || problem || run?.reason}
  <p class="mt-2 font-medium text-error" role="alert">{current.error || problem || run?.reason}</p>
{/if}

{#if run}
  <div class="mt-4 grid gap-6 lg:grid-cols-[1fr_1fr_23rem]">
    <section aria-labelledby="p50-title">
      <h2 id="p50-title" class="font-semibold">Median latency, second by second</h2>
      <Chart
        summary="Median latency of both lanes, second by second"
        {x}
        lines={[
          { label: 'cached', values: ticks.map((t) => t.cached.p50_ms ?? null), color: '--lane-cached' },
          {
            label: 'direct',
            values: ticks.map((t) => t.direct.p50_ms ?? null),
            color: '--lane-direct',
            dashed: true,
          },
        ]}
        height={280}
        live={run?.state === 'running'}
        write={(v) => `${v} ms`}
        logarithmic
        span={[0, whole]}
      />
    </section>
    <section aria-labelledby="throughput-title">
      <h2 id="throughput-title" class="font-semibold">Reads answered each second</h2>
      <Chart
        summary="Throughput of both lanes, second by second"
        {x}
        lines={[
          { label: 'cached', values: ticks.map((t) => t.cached.per_second), color: '--lane-cached' },
          {
            label: 'direct',
            values: ticks.map((t) => t.direct.per_second),
            color: '--lane-direct',
            dashed: true,
          },
        ]}
        height={280}
        live={run?.state === 'running'}
        write={(v) => `${format.count(v)}/s`}
        logarithmic
        span={[0, whole]}
      />
    </section>
    <section aria-label="Figures">
      {#if measured}
        <LaneTable cached={measured.cached} direct={measured.direct} />
      {:else}
        <p class="text-sm">Figures follow after the warm-up.</p>
      {/if}
      {#each measured?.errors ?? [] as { lane, message, count } (`${lane} ${message}`)}
        <p class="text-sm text-error">{format.count(count)} × {lane}: {message}</p>
      {/each}
    </section>
  </div>
  <p class="text-sm">
    Latencies as the clients saw them, on logarithmic scales. Closed loop: each client sends its next
    read when the previous one is answered.
  </p>
{:else if asked && runs.length === 0}
  <p class="mt-6">No runs yet. Choose a profile and start a run.</p>
{/if}

{#if runs.length > 0}
  <section class="mt-4" aria-labelledby="runs-title">
    <h2 id="runs-title" class="font-semibold">Latest runs</h2>
    <div class="max-h-44 overflow-y-auto">
      <table class="table table-xs text-sm">
        <thead>
          <tr class="text-base-content">
            <th scope="col" class="text-right">Run</th>
            <th scope="col">Started</th>
            <th scope="col">Profile</th>
            <th scope="col">State</th>
            <th scope="col" class="text-right">Cached p50</th>
            <th scope="col" class="text-right">Direct p50</th>
            <th scope="col" class="text-right">Speedup</th>
            <td></td>
          </tr>
        </thead>
        <tbody>
          {#each runs as past (past.id)}
            <tr>
              <th scope="row" class="text-right">{past.id}</th>
              <td>{new Date(past.started_at).toLocaleString('en-GB')}</td>
              <td>{past.profile.name}</td>
              <td>{past.state}</td>
              <td class="text-right">{format.milliseconds(past.report?.cached.p50_ms)}</td>
              <td class="text-right">{format.milliseconds(past.report?.direct.p50_ms)}</td>
              <td class="text-right">
                {past.report?.doubts?.length ? 'not comparable' : format.times(past.report?.comparison.times_faster_p50)}
              </td>
              <td class="text-right">
                <button
                  class="btn btn-ghost btn-xs"
                  onclick={() => current.follow(past, refresh)}
                  disabled={current.running}
                >
                  Show<span class="sr-only"> run {past.id}</span>
                </button>
              </td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  </section>
{/if}
