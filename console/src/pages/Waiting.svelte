<script lang="ts">
  import { LockOpen } from '@lucide/svelte';
  import { onMount } from 'svelte';
  import { api, messageOf, type WaitingLock } from '../lib/api';
  import * as format from '../lib/format';
  import { waiting as page } from '../lib/pages';
  import { WaitingFeed } from '../lib/waiting-feed.svelte';
  import Heading from '../components/Heading.svelte';
  import Origins from '../components/Origins.svelte';

  const feed = new WaitingFeed();
  let problem = $state('');
  let asked = $state<WaitingLock | null>(null);
  let confirm: HTMLDialogElement;

  onMount(() => {
    feed.start();
    return () => feed.stop();
  });

  const { question } = page;
  const permits = $derived(feed.now?.permits ?? []);
  const locks = $derived(feed.now?.locks ?? []);
  const origins = $derived(feed.now?.origins ?? []);
  const refilled = $derived(permits.filter((p) => p.permit.waiting > 0).length);
  const wanted = $derived(locks.filter((l) => l.lock.queued > 0).length);
  const waiting = $derived(
    permits.reduce((sum, p) => sum + p.permit.waiting, 0) +
      locks.reduce((sum, l) => sum + l.lock.queued, 0),
  );
  // One list of what happened, newest first.
  const past = $derived(
    [
      ...(feed.now?.refills ?? []).map(({ namespace, refill }) => ({
        at: refill.at,
        namespace,
        what: refill.key,
        kind: `refill ${refill.outcome.replace('-', ' ')}`,
        who: refill.holder,
        lasted: refill.took_seconds,
        waiters: refill.waiters,
        longest: refill.max_wait_seconds as number | null,
        good: ['stored', 'not-stored', 'no-value'].includes(refill.outcome),
      })),
      ...(feed.now?.lock_events ?? []).map(({ namespace, event }) => ({
        at: event.at,
        namespace,
        what: event.name,
        kind: `lock ${event.kind.replace('-', ' ')}`,
        who: event.owner,
        lasted: event.lasted_seconds,
        waiters: 0,
        longest: null as number | null,
        good: event.kind === 'granted' || event.kind === 'released',
      })),
    ]
      .sort((a, b) => b.at.localeCompare(a.at))
      .slice(0, 40),
  );

  function seconds(s: number): string {
    if (s === 0) return '0 ms';
    return s < 1 ? format.milliseconds(s * 1000) : s < 10 ? `${s.toFixed(1)} s` : format.time(s);
  }

  /** What callers wait for: `2 refills and 1 lock`, without what nobody waits for. */
  function awaited(...kinds: [number, string][]) {
    const some = kinds.filter(([count]) => count > 0);
    const words = some.map(([count, kind]) => `${format.count(count)} ${kind}${count === 1 ? '' : 's'}`);
    return words.join(' and ');
  }

  function ask(lock: WaitingLock) {
    asked = lock;
    confirm.showModal();
  }

  async function force() {
    if (!asked) return;
    try {
      await api.forceRelease(asked.namespace, asked.lock.name);
      problem = '';
    } catch (error) {
      problem = messageOf(error);
    }
    asked = null;
  }
</script>

{#if !feed.now}
  <Heading {question} answer="…">Loading.</Heading>
{:else if waiting > 0}
  <Heading {question} answer="{format.count(waiting)} waiting">
    for {awaited([refilled, 'refill'], [wanted, 'lock'])}.
  </Heading>
{:else}
  <Heading {question} answer="Nobody">
    {format.count(permits.length)} refill{permits.length === 1 ? '' : 's'} in progress,
    {format.count(locks.length)} lock{locks.length === 1 ? '' : 's'} held.
  </Heading>
{/if}
{#if feed.broken}
  <p class="font-medium text-error" role="alert">No data from Verax; reconnecting.</p>
{/if}
{#if problem}<p class="font-medium text-error" role="alert">{problem}</p>{/if}

<div class="grid gap-8 lg:grid-cols-2">
  <section aria-labelledby="locks-title">
    <h2 id="locks-title" class="border-b border-base-300 pb-1 font-semibold">Locks</h2>
    {#if locks.length === 0}
      <p class="py-3 text-sm">
        No lock is held. A service acquires one with <code>hold_lock</code>, an operator with
        <code>verax lock hold</code>.
      </p>
    {:else}
      <table class="table table-xs text-sm">
        <thead>
          <tr class="text-base-content">
            <th scope="col">Lock</th>
            <th scope="col">Holder</th>
            <th scope="col" class="text-right">Held for</th>
            <th scope="col" class="text-right">Ends in</th>
            <th scope="col" class="text-right">Queued</th>
            <td></td>
          </tr>
        </thead>
        <tbody>
          {#each locks as entry (`${entry.namespace} ${entry.lock.name}`)}
            {@const holder = entry.lock.holder}
            <tr>
              <th scope="row">
                {entry.lock.name}<br /><span class="font-normal">{entry.namespace}</span>
              </th>
              <td>{holder?.owner}<br />token {holder?.fencing_token}</td>
              <td class="text-right">{seconds(holder?.held_seconds ?? 0)}</td>
              <td class="text-right">{seconds(holder?.ends_in_seconds ?? 0)}</td>
              <td class="text-right" title={entry.lock.queue.map((w) => w.owner).join(', ')}>
                {entry.lock.queued}
              </td>
              <td class="text-right">
                <button
                  class="btn btn-ghost btn-xs btn-square"
                  aria-label="Force {entry.lock.name} of {entry.namespace} open"
                  onclick={() => ask(entry)}
                >
                  <LockOpen size={16} />
                </button>
              </td>
            </tr>
          {/each}
        </tbody>
      </table>
    {/if}
  </section>

  <section aria-labelledby="refills-title">
    <h2 id="refills-title" class="border-b border-base-300 pb-1 font-semibold">Refills</h2>
    {#if permits.length === 0}
      <p class="py-3 text-sm">No refill is in progress.</p>
    {:else}
      <table class="table table-xs text-sm">
        <thead>
          <tr class="text-base-content">
            <th scope="col">Key</th>
            <th scope="col">Permit holder</th>
            <th scope="col" class="text-right">Held for</th>
            <th scope="col" class="text-right">Expires in</th>
            <th scope="col" class="text-right">Waiting</th>
          </tr>
        </thead>
        <tbody>
          {#each permits.slice(0, 12) as entry (`${entry.namespace} ${entry.permit.key}`)}
            <tr>
              <th scope="row">
                {entry.permit.key}<br /><span class="font-normal">{entry.namespace}</span>
              </th>
              <td>{entry.permit.holder}</td>
              <td class="text-right">{seconds(entry.permit.held_seconds)}</td>
              <td class="text-right">{seconds(entry.permit.ends_in_seconds)}</td>
              <td class="text-right">{format.count(entry.permit.waiting)}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    {/if}
  </section>
</div>

{#if origins.length > 0}
  <section class="mt-6" aria-labelledby="origins-title">
    <h2 id="origins-title" class="border-b border-base-300 pb-1 font-semibold">Origins</h2>
    <Origins {origins} />
  </section>
{/if}

<section class="mt-6" aria-labelledby="past-title">
  <h2 id="past-title" class="border-b border-base-300 pb-1 font-semibold">Recent events</h2>
  {#if past.length === 0}
    <p class="py-3 text-sm">No refill or lock event since Verax started.</p>
  {:else}
    <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
    <div class="max-h-80 overflow-y-auto" tabindex="0" role="group" aria-label="Table of recent events">
      <table class="table table-xs text-sm">
        <thead>
          <tr class="text-base-content">
            <th scope="col">At</th>
            <th scope="col">Event</th>
            <th scope="col">Key or lock</th>
            <th scope="col">Namespace</th>
            <th scope="col">Owner</th>
            <th scope="col" class="text-right">Duration</th>
            <th scope="col" class="text-right">Waiters</th>
            <th scope="col" class="text-right">Longest wait</th>
          </tr>
        </thead>
        <tbody>
          {#each past as event, at (`${event.at} ${event.what} ${at}`)}
            <tr>
              <td>{new Date(event.at).toLocaleTimeString('en-GB')}</td>
              <td class={event.good ? '' : 'font-semibold text-error'}>{event.kind}</td>
              <th scope="row">{event.what}</th>
              <td>{event.namespace}</td>
              <td>{event.who}</td>
              <td class="text-right">{seconds(event.lasted)}</td>
              <td class="text-right">{event.longest === null ? format.NONE : format.count(event.waiters)}</td>
              <td class="text-right">
                {event.longest === null || event.waiters === 0 ? format.NONE : seconds(event.longest)}
              </td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  {/if}
</section>

<dialog class="modal" bind:this={confirm} aria-labelledby="force-title">
  <div class="modal-box">
    <h2 id="force-title" class="text-lg font-semibold">Force {asked?.lock.name} open?</h2>
    <p class="py-3">
      {asked?.lock.holder?.owner} holds it and does not learn of this until it renews or releases. Only
      resources that check fencing tokens are safe from its late writes. The activity records this
      action.
    </p>
    <form method="dialog" class="modal-action">
      <button class="btn">Keep it</button>
      <button class="btn btn-error" onclick={force}>Force it open</button>
    </form>
  </div>
</dialog>
