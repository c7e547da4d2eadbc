<script lang="ts">
  import type { Snippet } from 'svelte';
  import type { WarmRun } from '../lib/api';
  import * as format from '../lib/format';

  /** A warm run: how far it is, and what became of its keys. */
  let { run, children }: { run: WarmRun; children: Snippet } = $props();

  const finished = $derived(run.stored + run.skipped + run.no_value + run.failed);
  const part = (keys: number) => (run.keys === 0 ? 0 : (keys / run.keys) * 100);
  const parts = $derived(
    [
      { name: 'stored', keys: run.stored, shade: 'bg-primary' },
      { name: 'fresh already', keys: run.skipped, shade: 'bg-primary/50' },
      { name: 'without a value', keys: run.no_value, shade: 'bg-base-content/40' },
      { name: 'failed', keys: run.failed, shade: 'bg-error' },
    ].filter((one) => one.keys > 0),
  );
  const state = $derived(run.state === 'running' ? run.phase || 'running' : run.state);
</script>

<section class="border-y border-base-300 py-3" aria-label="Warm run {run.id}" data-run-state={run.state} data-run-phase={run.phase}>
  <div class="flex flex-wrap items-center gap-3">
    <p class="text-lg">
      Run {run.id}{run.plan ? `, ${run.plan}` : ''}: <strong>{state}</strong>
      <span class="text-sm">of {run.tenant}/{run.namespace}, started by {run.cause}</span>
    </p>
    <span class="ml-auto flex gap-2">{@render children()}</span>
  </div>
  <div
    class="mt-2 flex h-5 w-full bg-base-300"
    role="progressbar"
    aria-label="Keys of warm run {run.id}"
    aria-valuemin="0"
    aria-valuemax={run.keys}
    aria-valuenow={finished}
  >
    {#each parts as one (one.name)}<span class="h-5 {one.shade}" style:width="{part(one.keys)}%" title="{format.count(one.keys)} {one.name}"></span>{/each}
  </div>
  <p class="mt-1 flex flex-wrap gap-x-4 text-sm tabular-nums">
    <span><strong>{format.count(finished)}</strong> of {format.count(run.keys)} keys</span>
    {#each parts as one (one.name)}<span>{format.count(one.keys)} {one.name}</span>{/each}
    <span>{format.rate(run.per_second)}</span>
    <span>{run.origin_concurrency.toFixed(1)} refills at a time</span>
    <span>{format.bytes(run.bytes)}</span>
    {#if run.seconds_left != null}<span>{format.time(Math.ceil(run.seconds_left))} left</span>
    {:else}<span>{format.milliseconds(run.elapsed_ms)}</span>{/if}
    {#if run.resumed}<span>resumed after {format.count(run.resumed)} {run.resumed === 1 ? 'restart' : 'restarts'}</span>{/if}
  </p>
  {#if run.reason}<p class="mt-1 text-sm font-medium">{run.reason}</p>{/if}
  {#each run.warnings ?? [] as warning (warning)}<p class="mt-1 text-sm font-medium">{warning}</p>{/each}
  {#if run.failures.length}
    <details class="mt-1 text-sm">
      <summary class="cursor-pointer">
        {(run.failure_counts ?? []).map((count) => `${format.count(count.keys)} failed with ${count.kind}`).join(', ')}
      </summary>
      <ul class="ml-4 list-disc">
        {#each run.failures as failure (failure.key)}<li class="break-all"><code>{failure.key}</code>: {failure.reason}</li>{/each}
      </ul>
    </details>
  {/if}
</section>
