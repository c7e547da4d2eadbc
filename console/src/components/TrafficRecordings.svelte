<script lang="ts">
  import { Disc, Play, Square } from '@lucide/svelte';
  import { onMount } from 'svelte';
  import { api, messageOf, type TrafficRecording } from '../lib/api';
  import * as format from '../lib/format';
  import { RunFeed } from '../lib/run-feed.svelte';
  import { may } from '../lib/rights';
  import { signed } from '../lib/session.svelte';
  import Dialog from './Dialog.svelte';

  let { onreplay }: { onreplay: (recording: TrafficRecording) => void } = $props();

  const current = new RunFeed<TrafficRecording>('/v1/traffic-recordings', (namespace) =>
    api.recordTraffic(namespace, minutes * 60, hashed),
  );
  let recordings = $state<TrafficRecording[]>([]);
  let places = $state<string[]>([]);
  let place = $state('');
  let minutes = $state(1);
  let hashed = $state(false);
  let problem = $state('');
  let dialog: ReturnType<typeof Dialog>;

  async function refresh() {
    try {
      recordings = await api.recordings();
      problem = '';
    } catch (error) {
      problem = messageOf(error);
    }
  }

  /** Those that are recorded now, as their stream says. */
  const rows = $derived(
    recordings.map((recording) => (recording.id === current.run?.id ? current.run : recording)),
  );

  onMount(() => {
    void (async () => {
      await refresh();
      const active = recordings.find((recording) => recording.state === 'running');
      if (active) current.follow(active, refresh);
    })();
    return () => current.stopFollowing();
  });

  async function ask() {
    const session = signed.session;
    const all = await api.allNamespaces();
    places = all
      .filter((one) => session && may(session, 'load', one.tenant, one.name))
      .map((one) => `${one.tenant}/${one.name}`);
    if (!places.includes(place)) place = places[0] ?? '';
    dialog.open();
  }

  async function record() {
    current.follow(await api.recordTraffic(place, minutes * 60, hashed), refresh);
    await refresh();
  }
</script>

<section class="mt-4" aria-labelledby="recordings-title">
  <div class="flex flex-wrap items-center gap-3">
    <h2 id="recordings-title" class="font-semibold">Recorded traffic</h2>
    <button
      class="btn btn-xs"
      onclick={() => ask().catch((error) => (problem = messageOf(error)))}
      disabled={current.running}
    >
      <Disc size={14} /> Record traffic
    </button>
    {#if rows.length === 0}
      <span class="text-sm">Record which keys of a namespace are read, and when, to replay that at a multiple of its pace.</span>
    {/if}
  </div>
  {#if problem || current.error}
    <p class="mt-1 font-medium text-error" role="alert">{problem || current.error}</p>
  {/if}
  {#if rows.length > 0}
    <div class="max-h-36 overflow-y-auto">
      <table class="table table-xs text-sm">
        <thead>
          <tr class="text-base-content">
            <th scope="col" class="text-right">Recording</th>
            <th scope="col">Started</th>
            <th scope="col">Namespace</th>
            <th scope="col">State</th>
            <th scope="col" class="text-right">Length</th>
            <th scope="col" class="text-right">Reads</th>
            <th scope="col" class="text-right">Keys</th>
            <th scope="col">Kept as</th>
            <td></td>
          </tr>
        </thead>
        <tbody>
          {#each rows as recording (recording.id)}
            <tr data-recording={recording.id} data-state={recording.state}>
              <th scope="row" class="text-right">{recording.id}</th>
              <td>{new Date(recording.started_at).toLocaleString('en-GB')}</td>
              <td>{recording.namespace}</td>
              <td>{recording.state}{recording.reason ? `: ${recording.reason}` : ''}</td>
              <td class="text-right">{format.time(recording.seconds)}</td>
              <td class="text-right">{format.count(recording.reads)}</td>
              <td class="text-right">{format.count(recording.keys)}</td>
              <td>{recording.hash_keys ? 'hashed' : 'plain'}</td>
              <td class="text-right whitespace-nowrap">
                {#if recording.state === 'running'}
                  <button class="btn btn-ghost btn-xs" onclick={() => api.stopRecording(recording.id).catch((error) => (problem = messageOf(error)))}>
                    <Square size={13} /> Stop{' '}<span class="sr-only">recording {recording.id}</span>
                  </button>
                {:else if recording.reads > 0}
                  <button class="btn btn-ghost btn-xs" onclick={() => onreplay(recording)}>
                    <Play size={13} /> Replay{' '}<span class="sr-only">recording {recording.id}</span>
                  </button>
                {/if}
              </td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  {/if}
</section>

<Dialog bind:this={dialog} title="Record traffic" action="Record" onaction={record}>
  <div class="flex flex-col gap-3">
    <label class="flex flex-col gap-1">
      <span class="text-sm">Namespace</span>
      <select class="select w-full" bind:value={place}>
        {#each places as one (one)}<option>{one}</option>{/each}
      </select>
    </label>
    <label class="flex flex-col gap-1">
      <span class="text-sm">Minutes</span>
      <input class="input w-28" type="number" min="0.1" max="60" step="any" required bind:value={minutes} />
    </label>
    <label class="flex items-center gap-2">
      <input type="checkbox" class="checkbox checkbox-sm" bind:checked={hashed} />
      <span class="text-sm">Keep hashes of the keys, which cannot be turned back into keys</span>
    </label>
  </div>
</Dialog>
