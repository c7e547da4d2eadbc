<script lang="ts">
  import { Pencil, Play, Plus, Square, Trash2 } from '@lucide/svelte';
  import { onMount } from 'svelte';
  import { api, messageOf, type JoinedWorker, type LoadRun, type OfferedProfile, type RunComparison } from '../lib/api';
  import * as format from '../lib/format';
  import * as series from '../lib/load-series';
  import { loadText, replayOf } from '../lib/load-profile';
  import { feed } from '../lib/session.svelte';
  import { RunFeed } from '../lib/run-feed.svelte';
  import { load } from '../lib/pages';
  import Dialog from '../components/Dialog.svelte';
  import Heading from '../components/Heading.svelte';
  import LoadAnswer from '../components/LoadAnswer.svelte';
  import LoadHands from '../components/LoadHands.svelte';
  import LoadOverlay from '../components/LoadOverlay.svelte';
  import LoadProfileDialog from '../components/LoadProfileDialog.svelte';
  import LoadReport from '../components/LoadReport.svelte';
  import TrafficRecordings from '../components/TrafficRecordings.svelte';

  const current = new RunFeed<LoadRun>('/v1/load-runs', (name) => api.startLoadRun(name, withJoined));
  let workers = $state<JoinedWorker[]>([]);
  let withJoined = $state(false);
  let profiles = $state<OfferedProfile[]>([]);
  let runs = $state<LoadRun[]>([]);
  let chosen = $state('');
  let problem = $state('');
  let asked = $state(false);
  let overlay = $state.raw<{ before: LoadRun; after: LoadRun; comparison: RunComparison } | null>(null);
  let editor: ReturnType<typeof LoadProfileDialog>;
  let removal: ReturnType<typeof Dialog>;

  async function attempt(what: () => Promise<void>) {
    try {
      await what();
      problem = '';
    } catch (error) {
      problem = messageOf(error);
    }
  }

  const refresh = () =>
    attempt(async () => {
      [runs, workers] = await Promise.all([api.loadRuns(), api.loadWorkers()]);
      if (workers.length === 0) withJoined = false;
    });

  async function refreshProfiles() {
    profiles = await api.loadProfiles();
    if (!profiles.some((profile) => keyOf(profile) === chosen)) chosen = profiles[0] ? keyOf(profiles[0]) : '';
  }

  const keyOf = (profile: OfferedProfile) => `${profile.tenant}/${profile.spec.name}`;

  /** Shows a run with all its seconds; one that somebody else started as it goes on. */
  const show = (id: number) => attempt(async () => current.follow(await api.loadRun(id), refresh));

  /** Compares the run that is shown with another one. */
  const compare = (id: number) =>
    attempt(async () => {
      if (!run) return;
      const [early, late] = [Math.min(id, run.id), Math.max(id, run.id)];
      const [before, after, comparison] = await Promise.all([
        api.loadRun(early),
        api.loadRun(late),
        api.compareLoadRuns(early, late),
      ]);
      overlay = { before, after, comparison };
    });

  const setBaseline = (id: number | null) =>
    attempt(async () => {
      if (!run) return;
      const [tenant] = run.profile.namespace.split('/') as [string, string];
      await api.setLoadBaseline(tenant, run.profile.name, id);
      await refreshProfiles();
    });

  onMount(() => {
    void (async () => {
      await attempt(refreshProfiles);
      await refresh();
      asked = true;
      const first = runs[0];
      if (first && !current.run) await show(first.id);
    })();
    return () => current.stopFollowing();
  });

  const run = $derived(current.run);
  const looks = $derived(run ? series.looksOf(run) : []);
  const ticks = $derived(run?.ticks ?? []);
  const profile = $derived(profiles.find((p) => keyOf(p) === chosen));
  const ofRun = $derived(
    run && profiles.find((p) => keyOf(p) === `${run.profile.namespace.split('/')[0]}/${run.profile.name}`),
  );
  const stageName = $derived.by(() => {
    const tick = ticks.at(-1);
    if (!tick) return 'calibrating the generators';
    if (run?.paused) return 'paused';
    return run?.report?.stages?.find((_, n) => n === tick.stage)?.name ?? (tick.warm_up ? 'warm-up' : 'measuring');
  });

  function loadOf({ spec }: OfferedProfile): string {
    const lanes = (spec.lanes ?? []).map((lane) => lane.name).join(' and ');
    return `${lanes} over ${spec.namespace}, each with ${loadText(spec)}`;
  }

  function answerOf(run: LoadRun): string {
    if (run.report?.doubts?.length) return 'not comparable';
    return format.times(run.report?.comparisons[0]?.times_faster_p50);
  }
</script>

{#if run}
  <LoadAnswer {run} {looks} />
{:else}
  <Heading question={load.question} answer="Not measured yet">
    The lanes read the same keys in the same seconds: through Verax, and straight from the origin.
  </Heading>
{/if}

<div class="flex flex-wrap items-end gap-3 border-y border-base-300 py-2">
  {#if current.running && run}
    <LoadHands {run} onproblem={(message) => (problem = message)} />
    <button class="btn btn-outline btn-sm" onclick={() => current.ask(api.stopLoadRun)} disabled={current.starting}>
      <Square size={15} /> Stop the run
    </button>
  {:else}
    <label class="flex flex-col gap-1">
      <span class="text-sm font-medium">Load profile</span>
      <select class="select min-w-52" bind:value={chosen}>
        {#each profiles as p (keyOf(p))}<option value={keyOf(p)}>{p.spec.name}</option>{/each}
      </select>
    </label>
    <button
      class="btn btn-primary"
      onclick={() => current.start(chosen, refresh)}
      disabled={!chosen || !feed.connected || current.starting}
    >
      <Play size={16} /> Start the run
    </button>
    {#if workers.length > 0}
      <label class="flex items-center gap-2 self-center text-sm" title={workers.map((worker) => worker.name).join(', ')}>
        <input type="checkbox" class="checkbox checkbox-sm" bind:checked={withJoined} />
        with {workers.length === 1 ? 'the worker that has' : `the ${workers.length} workers that have`} joined
      </label>
    {/if}
    {#if profile}
      <button class="btn btn-sm btn-square" title="Edit the profile" aria-label="Edit the profile" onclick={() => editor.open(profile, false)}>
        <Pencil size={15} />
      </button>
      <button class="btn btn-sm btn-square" title="New profile from this one" aria-label="New profile from this one" onclick={() => editor.open(profile, true)}>
        <Plus size={15} />
      </button>
      {#if !profile.is_shipped}
        <button class="btn btn-sm btn-square" title="Delete the profile" aria-label="Delete the profile" onclick={() => removal.open()}>
          <Trash2 size={15} />
        </button>
      {/if}
      <p class="max-w-md self-center text-sm">{profile.spec.title}. {loadOf(profile)}.</p>
    {:else if asked && profiles.length === 0}
      <p class="self-center text-sm">
        No load profiles. Start <code>verax serve</code> with a directory of them,
        <code>--load-profiles DIR</code>, or store one: <code>verax load profile store FILE</code>.
      </p>
    {/if}
  {/if}
  {#if run}
    <p class="ml-auto self-center text-sm" aria-live="polite" data-run-state={run.state}>
      run {run.id}, {run.profile.name}:
      <strong>{run.state}</strong>
      {#if current.running}· {stageName}{/if}
      {#if ticks.length > 0}
        · {format.time(ticks.at(-1)?.at_seconds ?? 0)} of {format.time(series.lengthOf(run))}
      {/if}
    </p>
  {/if}
</div>
{#if current.error || problem || run?.reason}
  <p class="mt-2 font-medium text-error" role="alert">{current.error || problem || run?.reason}</p>
{/if}

{#if overlay}
  <LoadOverlay {...overlay} onclose={() => (overlay = null)} />
{/if}
{#if run}
  <LoadReport {run} {looks} />
  {#if !current.running}
    <div class="mt-2 flex flex-wrap items-center gap-2 text-sm">
      <span>Keep run {run.id}:</span>
      <a class="link" href="/v1/load-runs/{run.id}/export?form=html" download>report (HTML)</a>
      <a class="link" href="/v1/load-runs/{run.id}/export?form=csv" download>seconds (CSV)</a>
      <a class="link" href="/v1/load-runs/{run.id}/export?form=histogram-log" download>histograms (log)</a>
      <a class="link" href="/v1/load-runs/{run.id}/export?form=json" download>for another Verax (JSON)</a>
      {#if ofRun}
        {#if ofRun.baseline === run.id}
          <span class="ml-4">It is the baseline of {run.profile.name}.</span>
          <button class="btn btn-xs" onclick={() => setBaseline(null)}>No baseline</button>
        {:else if run.state === 'done'}
          <button class="btn btn-xs ml-4" onclick={() => setBaseline(run.id)}>Use as the baseline of {run.profile.name}</button>
        {/if}
      {/if}
    </div>
  {/if}
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
            <th scope="col" class="text-right">First lane, p50</th>
            <th scope="col" class="text-right">Second lane, p50</th>
            <th scope="col" class="text-right">Speedup</th>
            <td></td>
          </tr>
        </thead>
        <tbody>
          {#each runs as past (past.id)}
            <tr class:font-semibold={past.id === run?.id}>
              <th scope="row" class="text-right">{past.id}</th>
              <td>{new Date(past.started_at).toLocaleString('en-GB')}</td>
              <td>{past.profile.name}{past.is_imported ? ' (imported)' : ''}</td>
              <td>{past.state}</td>
              {#each [0, 1] as lane (lane)}
                <td class="text-right">{format.milliseconds(past.report?.lanes[lane]?.figures.p50_ms)}</td>
              {/each}
              <td class="text-right">{answerOf(past)}</td>
              <td class="text-right whitespace-nowrap">
                {#if run && past.id !== run.id}
                  <button class="btn btn-ghost btn-xs" onclick={() => compare(past.id)} disabled={current.running}>
                    Compare{' '}<span class="sr-only">run {past.id}</span>
                  </button>
                {/if}
                <button class="btn btn-ghost btn-xs" onclick={() => show(past.id)} disabled={current.running}>
                  Show{' '}<span class="sr-only">run {past.id}</span>
                </button>
              </td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  </section>
{/if}

<TrafficRecordings
  onreplay={(recording) => {
    const spec = replayOf(recording);
    editor.open({ tenant: spec.namespace.split('/')[0] ?? '', is_shipped: false, spec }, true);
  }}
/>
<LoadProfileDialog
  bind:this={editor}
  onsaved={(name) => {
    void attempt(async () => {
      await refreshProfiles();
      const saved = profiles.find((p) => p.spec.name === name);
      if (saved) chosen = keyOf(saved);
    });
  }}
/>
<Dialog
  bind:this={removal}
  title="Delete the load profile {profile?.spec.name}?"
  action="Delete"
  danger
  onaction={async () => {
    if (!profile) return;
    await api.deleteLoadProfile(profile.tenant, profile.spec.name);
    await refreshProfiles();
  }}
>
  <p>Its text is lost. Its runs stay.</p>
</Dialog>
