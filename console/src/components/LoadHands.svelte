<script lang="ts">
  import { Eraser, Flag, Pause, Play, ShieldOff, Snail, Unplug } from '@lucide/svelte';
  import { onMount } from 'svelte';
  import { api, messageOf, type LoadRun, type StandIn } from '../lib/api';
  import { unitOf } from '../lib/load-profile';
  import { signed } from '../lib/session.svelte';
  import { isAdmin, may } from '../lib/rights';

  let { run, onproblem }: { run: LoadRun; onproblem: (message: string) => void } = $props();

  let level = $state('');
  let note = $state('');

  let standIn = $state<StandIn | null>(null);

  // Only the demo has one, and only administrators may set its faults.
  onMount(() => {
    if (signed.session && isAdmin(signed.session)) {
      api.standIn().then((faults) => (standIn = faults), () => undefined);
    }
  });

  const changeStandIn = (change: Partial<StandIn>) =>
    act(async () => void (standIn = await api.changeStandIn(change)));

  const place = $derived(run.profile.namespace.split('/') as [string, string]);
  const unit = $derived(unitOf(run.profile));
  const now = $derived(run.ticks?.at(-1)?.level);
  const mayClear = $derived(!!signed.session && may(signed.session, 'invalidate', ...place));
  const mayManage = $derived(!!signed.session && may(signed.session, 'manage', ...place));

  async function act(what: () => Promise<unknown>) {
    try {
      await what();
      onproblem('');
    } catch (error) {
      onproblem(messageOf(error));
    }
  }

  function change(event: SubmitEvent) {
    event.preventDefault();
    const wanted = Number(level);
    void act(() => api.changeLoadRun(run.id, { level: wanted }));
    level = '';
  }

  function mark(event: SubmitEvent) {
    event.preventDefault();
    const text = note.trim();
    void act(() => api.markLoadRun(run.id, text));
    note = '';
  }
</script>

<div class="flex flex-wrap items-end gap-2" role="group" aria-label="While the run is active">
  <form class="flex items-end gap-1" onsubmit={change}>
    <label class="flex flex-col gap-1">
      <span class="text-xs">{unit}, each lane</span>
      <input class="input input-sm w-28" type="number" min="0.1" step="any" required bind:value={level} placeholder={now?.toFixed(0) ?? ''} />
    </label>
    <button class="btn btn-sm">Set</button>
  </form>
  <button class="btn btn-sm" onclick={() => act(() => api.changeLoadRun(run.id, { paused: !run.paused }))}>
    {#if run.paused}<Play size={15} /> Resume{:else}<Pause size={15} /> Pause{/if}
  </button>
  <form class="flex items-end gap-1" onsubmit={mark}>
    <label class="flex flex-col gap-1">
      <span class="text-xs">Note on the time line</span>
      <input class="input input-sm w-44" maxlength="80" required bind:value={note} />
    </label>
    <button class="btn btn-sm"><Flag size={15} /> Mark</button>
  </form>
  {#if mayClear}
    <button class="btn btn-sm" title="Clear {run.profile.namespace}" onclick={() => act(() => api.clear(place[0], place[1], ''))}>
      <Eraser size={15} /> Clear{' '}<span class="sr-only">{run.profile.namespace}</span>
    </button>
  {/if}
  {#if mayManage}
    <button class="btn btn-sm" onclick={() => act(() => api.changeNamespace(place[0], place[1], { bypass_seconds: 5 }, ''))}>
      <ShieldOff size={15} /> Bypass for 5 s
    </button>
  {/if}
  {#if standIn}
    <button
      class="btn btn-sm"
      title="300 ms more for each answer of the origin"
      aria-pressed={standIn.extra_latency_ms > 0}
      onclick={() => changeStandIn({ extra_latency_ms: standIn!.extra_latency_ms > 0 ? 0 : 300 })}
    >
      <Snail size={15} /> {standIn.extra_latency_ms > 0 ? 'Stand-in as fast as before' : 'Slow the stand-in'}
    </button>
    <button class="btn btn-sm" aria-pressed={standIn.outage} onclick={() => changeStandIn({ outage: !standIn!.outage })}>
      <Unplug size={15} /> {standIn.outage ? 'End the outage' : 'Fail the stand-in'}
    </button>
  {/if}
</div>
