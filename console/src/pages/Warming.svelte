<script lang="ts">
  import { Pause, Pencil, Play, Plus, Square, Trash2 } from '@lucide/svelte';
  import { onMount } from 'svelte';
  import { api, messageOf, type Schedule, type WarmEstimate, type WarmPlan, type WarmRun } from '../lib/api';
  import * as format from '../lib/format';
  import { warming as page } from '../lib/pages';
  import { RunFeed } from '../lib/run-feed.svelte';
  import { actionText, timingText, localTime } from '../lib/schedule-text';
  import { signed } from '../lib/session.svelte';
  import DataTable, { type Column } from '../components/DataTable.svelte';
  import Dialog from '../components/Dialog.svelte';
  import Heading from '../components/Heading.svelte';
  import PlanDialog from '../components/PlanDialog.svelte';
  import Problem from '../components/Problem.svelte';
  import ScheduleDialog from '../components/ScheduleDialog.svelte';
  import WarmProgress from '../components/WarmProgress.svelte';

  /** How often the lists are asked for, in milliseconds. */
  const EVERY = 3_000;

  const current = new RunFeed<WarmRun>('/v1/warm-runs', api.startWarmRun);
  let plans = $state.raw<WarmPlan[]>([]);
  let schedules = $state.raw<Schedule[]>([]);
  let runs = $state.raw<WarmRun[]>([]);
  let places = $state.raw<string[]>([]);
  let newPlace = $state('');
  let problem = $state('');
  let estimate = $state.raw<{ plan: string; value: WarmEstimate } | null>(null);
  let removed = $state.raw<{ what: 'plan' | 'schedule'; tenant: string; name: string } | null>(null);
  let planDialog: PlanDialog;
  let scheduleDialog: ScheduleDialog;
  let choose: Dialog;
  let confirm: Dialog;

  async function refresh() {
    try {
      [plans, schedules, runs] = await Promise.all([api.warmPlans(), api.schedules(), api.warmRuns()]);
      problem = '';
    } catch (error) {
      problem = messageOf(error);
    }
    // A run that somebody else started is shown as it goes on.
    const active = runs.find((run) => run.state === 'running');
    if (active && !current.running) current.follow(active, refresh);
    else if (!current.run && runs[0]) current.follow(runs[0]);
  }

  onMount(() => {
    void (async () => {
      await refresh();
      try {
        const all = await api.allNamespaces();
        places = all.filter((n) => signed.may('warm', n.tenant, n.name)).map((n) => `${n.tenant}/${n.name}`);
        newPlace = places[0] ?? '';
      } catch (error) {
        problem = messageOf(error);
      }
    })();
    const timer = setInterval(() => void refresh(), EVERY);
    return () => {
      clearInterval(timer);
      current.stopFollowing();
    };
  });

  const run = $derived(current.run);
  // The list lags behind the run that is followed.
  const active = $derived([
    ...(run?.state === 'running' ? [run] : []),
    ...runs.filter((r) => r.state === 'running' && r.id !== run?.id),
  ]);
  const next = $derived(
    schedules
      .filter((s) => s.next[0])
      .sort((a, b) => a.next[0]!.localeCompare(b.next[0]!))[0],
  );

  async function attempt(what: () => Promise<unknown>) {
    try {
      await what();
      problem = '';
    } catch (error) {
      problem = messageOf(error);
    }
    await refresh();
  }

  const look = (plan: WarmPlan) =>
    attempt(async () => {
      estimate = { plan: `${plan.tenant}/${plan.name}`, value: await api.estimateWarmRun(plan.tenant, plan.name) };
    });

  function ask(what: 'plan' | 'schedule', of: { tenant: string; name: string }) {
    removed = { what, tenant: of.tenant, name: of.name };
    confirm.open();
  }

  async function remove() {
    if (!removed) return;
    const { what, tenant, name } = removed;
    await (what === 'plan' ? api.deleteWarmPlan(tenant, name) : api.deleteSchedule(tenant, name));
    await refresh();
  }

  function newPlan() {
    const [tenant = '', namespace = ''] = newPlace.split('/');
    planDialog.create(tenant, { namespace, note: '', keys: [{ hottest: 50 }], order: 'hottest-first' });
  }

  function itself(plan: WarmPlan): string {
    const after = plan.after_invalidation ? [`after an invalidation, ${plan.after_invalidation.quiet_seconds} s quiet`] : [];
    const scheduled = schedules
      .filter((s) => s.tenant === plan.tenant && 'warm-plan' in s.action && s.action['warm-plan'] === plan.name)
      .map((s) => `schedule ${s.name}`);
    return [...after, ...(plan.after_start ? ['after a start'] : []), ...scheduled].join('; ') || format.NONE;
  }

  const stateOf = (row: WarmRun) => (row.state === 'running' ? (row.phase || 'running') : row.state);

  const planColumns: Column<WarmPlan>[] = [
    { key: 'plan', title: 'Plan', value: (row) => `${row.tenant}/${row.name}`, whole: true },
    { key: 'namespace', title: 'Fills', value: (row) => row.namespace, whole: true },
    { key: 'note', title: 'What for', value: (row) => row.note },
    { key: 'itself', title: 'Runs by itself', value: itself },
    { key: 'do', title: 'Do', value: () => '', cell: planActions, whole: true },
  ];
  const scheduleColumns: Column<Schedule>[] = [
    { key: 'schedule', title: 'Schedule', value: (row) => `${row.tenant}/${row.name}`, whole: true },
    { key: 'does', title: 'Does', value: (row) => actionText(row.action) },
    { key: 'when', title: 'When', value: (row) => timingText(row) },
    {
      key: 'next',
      title: 'Next',
      value: (row) => row.next[0],
      text: (row) => (row.paused ? 'paused' : row.next[0] ? localTime(row.next[0], row.time_zone) : format.NONE),
      whole: true,
    },
    { key: 'last', title: 'Last', value: (row) => row.last?.time, cell: lastCell },
    { key: 'do', title: 'Do', value: () => '', cell: scheduleActions, whole: true },
  ];
  const runColumns: Column<WarmRun>[] = [
    { key: 'run', title: 'Run', value: (row) => row.id, right: true },
    { key: 'started', title: 'Started', value: (row) => row.started_at, text: (row) => format.moment(row.started_at), whole: true },
    { key: 'plan', title: 'Plan', value: (row) => row.plan ?? format.NONE },
    { key: 'namespace', title: 'Namespace', value: (row) => `${row.tenant}/${row.namespace}` },
    { key: 'state', title: 'State', value: stateOf },
    { key: 'keys', title: 'Keys', value: (row) => row.keys, text: (row) => format.count(row.keys), right: true },
    { key: 'stored', title: 'Stored', value: (row) => row.stored, text: (row) => format.count(row.stored), right: true },
    { key: 'fresh', title: 'Fresh already', value: (row) => row.skipped, text: (row) => format.count(row.skipped), right: true },
    { key: 'failed', title: 'Failed', value: (row) => row.failed, text: (row) => format.count(row.failed), right: true },
    { key: 'took', title: 'Took', value: (row) => row.elapsed_ms, text: (row) => format.milliseconds(row.elapsed_ms), right: true },
    { key: 'cause', title: 'Started by', value: (row) => row.cause },
    { key: 'bytes', title: 'Bytes', value: (row) => row.bytes, text: (row) => format.bytes(row.bytes), right: true, extra: true },
    { key: 'calls', title: 'Refills at a time', value: (row) => row.origin_concurrency, text: (row) => row.origin_concurrency.toFixed(1), right: true, extra: true },
  ];
</script>

{#snippet planActions(row: WarmPlan)}
  {@const path = `${row.tenant}/${row.name}`}
  <span class="inline-flex gap-1">
    <button class="btn btn-xs" aria-label="Run {path}" onclick={() => current.start(path, refresh)}><Play size={14} /> Run</button>
    <button class="btn btn-xs" aria-label="What would it do? {path}" onclick={() => look(row)}>What would it do?</button>
    <button class="btn btn-xs btn-ghost" aria-label="Edit {path}" onclick={() => attempt(() => planDialog.edit(row.tenant, row.name))}><Pencil size={14} /></button>
    <button class="btn btn-xs btn-ghost" aria-label="Delete {path}" onclick={() => ask('plan', row)}><Trash2 size={14} /></button>
  </span>
{/snippet}
{#snippet lastCell(row: Schedule)}
  {#if row.last}
    <span class={row.last.state === 'failed' ? 'font-medium text-error' : ''}>
      {row.last.state}{row.last.run == null ? '' : ` run ${row.last.run}`}{row.last.note ? `: ${row.last.note}` : ''}
    </span>
  {:else}{format.NONE}{/if}
{/snippet}
{#snippet scheduleActions(row: Schedule)}
  {@const path = `${row.tenant}/${row.name}`}
  <span class="inline-flex gap-1">
    <button class="btn btn-xs" aria-label="Run {path} now" onclick={() => attempt(() => api.runSchedule(row.tenant, row.name))}><Play size={14} /> Now</button>
    <button
      class="btn btn-xs"
      aria-label="{row.paused ? 'Resume' : 'Pause'} {path}"
      onclick={() => attempt(() => api.pauseSchedule(row.tenant, row.name, !row.paused))}
    >
      {#if row.paused}<Play size={14} /> Resume{:else}<Pause size={14} /> Pause{/if}
    </button>
    <button class="btn btn-xs btn-ghost" aria-label="Edit {path}" onclick={() => attempt(() => scheduleDialog.edit(row.tenant, row.name))}><Pencil size={14} /></button>
    <button class="btn btn-xs btn-ghost" aria-label="Delete {path}" onclick={() => ask('schedule', row)}><Trash2 size={14} /></button>
  </span>
{/snippet}

<Heading question={page.question} answer={active.length ? `${format.count(active.length)} ${active.length === 1 ? 'run' : 'runs'}` : 'Nothing now'}>
  {#if active[0]}
    {active[0].tenant}/{active[0].namespace}{active[0].plan ? `, by the plan ${active[0].plan}` : ''}.
  {:else if next}
    Next is the schedule {next.tenant}/{next.name}, {localTime(next.next[0]!, next.time_zone)}.
  {:else}
    Nothing is scheduled.
  {/if}
</Heading>
<Problem message={current.error || problem} onretry={refresh} />

{#if run}
  <WarmProgress {run}>
    {#if run.state === 'running'}
      {#if run.phase === 'paused'}
        <button class="btn btn-sm" onclick={() => attempt(() => api.pauseWarmRun(run.id, false))}><Play size={16} /> Resume</button>
      {:else}
        <button class="btn btn-sm" onclick={() => attempt(() => api.pauseWarmRun(run.id, true))}><Pause size={16} /> Pause</button>
      {/if}
      <button class="btn btn-sm btn-outline" onclick={() => attempt(() => api.stopWarmRun(run.id))}><Square size={16} /> Stop</button>
    {/if}
  </WarmProgress>
{/if}

<section class="mt-6" aria-labelledby="plans-title">
  <div class="flex items-center gap-3">
    <h2 id="plans-title" class="font-semibold">Warm plans</h2>
    {#if places.length}<button class="btn btn-xs" onclick={() => choose.open()}><Plus size={14} /> New plan</button>{/if}
  </div>
  {#if estimate}
    {@const e = estimate.value}
    <div class="my-2 border-l-4 border-primary bg-base-200 p-3 text-sm" role="status">
      <p>
        <strong>{estimate.plan}</strong> would refill {format.count(e.refills)} of {format.count(e.keys)} keys
        ({format.count(e.fresh)} are fresh){e.seconds == null ? '' : `, in about ${format.milliseconds(e.seconds * 1000)}`}
        with {format.count(e.origin_concurrency)} refills at a time{e.origin_reads_per_second == null ? '' : `, ${format.rate(e.origin_reads_per_second)}`}.
        It would add {e.added_bytes == null ? 'an unknown amount of memory' : format.bytes(e.added_bytes)} to
        {format.bytes(e.used_bytes)} of {format.bytes(e.limit_bytes)}, and evict {format.bytes(e.evicted_bytes)}.
      </p>
      {#if e.first_keys.length}<p class="break-all">First: {e.first_keys.join(', ')}</p>{/if}
      {#each e.warnings as warning (warning)}<p class="font-medium">{warning}</p>{/each}
      <button class="btn btn-xs mt-2" onclick={() => (estimate = null)}>Close</button>
    </div>
  {/if}
  <DataTable name="warm plans" columns={planColumns} rows={plans} key={(row) => `${row.tenant}/${row.name}`} order="plan">
    {#snippet empty()}No plans. Create one here, or import a file: <code>verax warm plan import FILE</code>.{/snippet}
  </DataTable>
</section>

<section class="mt-6" aria-labelledby="schedules-title">
  <div class="flex items-center gap-3">
    <h2 id="schedules-title" class="font-semibold">Schedules</h2>
    {#if plans.length}<button class="btn btn-xs" onclick={() => scheduleDialog.create(plans)}><Plus size={14} /> New schedule</button>{/if}
  </div>
  <DataTable name="schedules" columns={scheduleColumns} rows={schedules} key={(row) => `${row.tenant}/${row.name}`} order="schedule">
    {#snippet empty()}No schedules: plans run when somebody starts them.{/snippet}
  </DataTable>
</section>

<section class="mt-6" aria-labelledby="runs-title">
  <h2 id="runs-title" class="font-semibold">Latest runs</h2>
  <DataTable name="warm runs" columns={runColumns} rows={runs} key={(row) => row.id} order="-run">
    {#snippet empty()}No runs yet.{/snippet}
  </DataTable>
</section>

<PlanDialog bind:this={planDialog} onchanged={refresh} />
<ScheduleDialog bind:this={scheduleDialog} onchanged={refresh} />
<Dialog title="New warm plan" action="Go on" bind:this={choose} onaction={newPlan}>
  <label class="flex flex-col gap-1 text-sm font-medium">
    Which namespace does it fill?
    <select class="select select-sm w-full" bind:value={newPlace}>
      {#each places as path (path)}<option value={path}>{path}</option>{/each}
    </select>
  </label>
</Dialog>
<Dialog title="Delete the {removed?.what} {removed?.tenant}/{removed?.name}" action="Delete it" danger bind:this={confirm} onaction={remove}>
  <p>
    {removed?.what === 'plan'
      ? 'Its runs stay in the history. Schedules that run it fail until there is a plan of this name again.'
      : 'Its history is deleted with it. What it started goes on.'}
  </p>
</Dialog>
