<script lang="ts">
  import { X } from '@lucide/svelte';
  import { onMount } from 'svelte';
  import { api, messageOf, type RefillEvent, type StoredEntry } from '../lib/api';
  import * as format from '../lib/format';
  import * as quantities from '../lib/quantities';
  import { signed } from '../lib/session.svelte';
  import { PART, damageOf, formsOf, groupsField, imageAddress, shownValue, type Form } from '../lib/values';
  import Dialog from './Dialog.svelte';
  import Field from './Field.svelte';
  import Problem from './Problem.svelte';

  interface Props {
    tenant: string;
    namespace: string;
    entryKey: string;
    onchanged: () => void;
    onclose: () => void;
  }

  let { tenant, namespace, entryKey, onchanged, onclose }: Props = $props();

  let entry = $state.raw<StoredEntry | null>(null);
  let readAt = $state(0);
  let now = $state(Date.now());
  let isRead = $state(false);
  let isRefilling = $state(false);
  let refills = $state.raw<RefillEvent[]>([]);
  let problem = $state('');
  let chosen = $state<Form | null>(null);
  let bytes = $state(PART);
  let [value, tags, maxAge, mediaType] = $state(['', '', '', '']);
  let edited = '';
  let edit: Dialog, remove: Dialog;

  const forms = $derived(entry ? formsOf(entry.value, entry.mediaType) : []);
  const form = $derived(chosen && forms.includes(chosen) ? chosen : (forms[0] ?? 'bytes'));
  const shown = $derived(entry ? shownValue(entry.value, form, bytes) : null);
  /** Whether the value can be edited as text; its tags and max-age always can. */
  const isText = $derived(forms.includes('text'));
  const damage = $derived(entry ? damageOf(entry.value, entry.mediaType) : '');
  const passed = $derived((now - readAt) / 1000);
  const left = $derived(entry?.timeLeft === null || !entry ? null : entry.timeLeft - passed);
  const mayWrite = $derived(signed.may('write', tenant, namespace));

  async function load() {
    try {
      entry = await api.entry(tenant, namespace, entryKey);
      [readAt, now, problem, isRead] = [Date.now(), Date.now(), '', true];
      refills = (await api.recentRefills(tenant, namespace)).filter((refill) => refill.key === entryKey).slice(0, 8);
    } catch (error) {
      problem = messageOf(error);
    }
  }

  /** Reads it anew from the origin; the copy stays readable meanwhile. */
  async function refill() {
    isRefilling = true;
    try {
      await api.refill(tenant, namespace, entryKey);
      await load();
      onchanged();
    } catch (error) {
      problem = messageOf(error);
    } finally {
      isRefilling = false;
    }
  }

  onMount(() => {
    void load();
    const tick = setInterval(() => (now = Date.now()), 1_000);
    return () => clearInterval(tick);
  });

  function open() {
    if (!entry) return;
    value = isText ? new TextDecoder().decode(entry.value) : '';
    if (forms[0] === 'JSON') value = JSON.stringify(JSON.parse(value), null, 2);
    tags = [...entry.tags.matchAll(/"((?:[^"\\]|\\.)*)"/g)].map((m) => (m[1] ?? '').replaceAll(/\\(.)/g, '$1')).join(' ');
    maxAge = quantities.timeText(Math.max(Math.round(left ?? 0), 1));
    mediaType = entry.mediaType;
    edited = entry.tag;
    edit.open();
  }

  async function store() {
    if (!entry) return;
    const body = isText ? new TextEncoder().encode(value) : entry.value;
    const damaged = damageOf(body, mediaType);
    if (damaged) throw new quantities.InvalidField(`The value is no valid JSON: ${damaged}`);
    await api.putEntry(tenant, namespace, entryKey, {
      value: body,
      mediaType,
      tags: groupsField(tags.split(/\s+/).filter(Boolean)),
      maxAge: quantities.time(maxAge),
      tag: edited,
    });
    await load();
    onchanged();
  }
</script>

<section class="min-w-0 border-l-4 border-base-300 pl-4" aria-labelledby="entry-title">
  <div class="flex items-start gap-2">
    <h2 id="entry-title" class="grow text-lg font-semibold break-all">{entryKey}</h2>
    <button class="btn btn-ghost btn-xs btn-square" aria-label="Close the entry" onclick={onclose}><X size={16} /></button>
  </div>
  <Problem message={problem} onretry={load} />
  {#if entry}
    <dl class="grid grid-cols-[max-content_1fr] gap-x-4 text-sm">
      <dt>Freshness</dt>
      <dd class="font-medium" data-freshness>
        {#if left === null}stale{:else if left > 0}{format.time(left)} left{:else}ended since it was read{/if}
      </dd>
      <dt>Age</dt>
      <dd>{format.time(entry.age + passed)}</dd>
      <dt>Size</dt>
      <dd>{format.bytes(entry.value.length)}</dd>
      <dt>Media type</dt>
      <dd>{entry.mediaType}</dd>
      <dt>Tags</dt>
      <dd class="break-all">{entry.tags.replaceAll('"', '') || '–'}</dd>
      <dt>Entity tag</dt>
      <dd class="break-all">{entry.tag}</dd>
    </dl>
    {#if damage}<p class="mt-2 font-medium text-error" role="alert">Damaged: declared as JSON, but {damage}</p>{/if}
    <div class="mt-3 flex flex-wrap items-center gap-2">
      <div class="join" role="group" aria-label="Show the value as">
        {#each forms as one (one)}
          <button class="btn btn-xs join-item {form === one ? 'btn-active' : ''}" aria-pressed={form === one} onclick={() => (chosen = one)}>{one}</button>
        {/each}
      </div>
      <span class="grow"></span>
      <button class="btn btn-xs" onclick={load}>Read again</button>
      <button class="btn btn-xs" disabled={isRefilling} title="Read it anew from the origin" onclick={refill}>Refill now</button>
      {#if mayWrite}<button class="btn btn-xs" onclick={open}>Edit</button>{/if}
      {#if mayWrite || signed.may('invalidate', tenant, namespace)}
        <button class="btn btn-xs" onclick={() => remove.open()}>Delete</button>
      {/if}
    </div>
    {#if entry && form === 'image'}
      <img class="mt-2 max-h-[26rem] max-w-full bg-base-200" src={imageAddress(entry.value, entry.mediaType)} alt="The value of {entryKey}" />
    {:else if shown}
      <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
      <pre class="mt-2 max-h-[26rem] overflow-auto bg-base-200 p-3 text-xs" tabindex="0" aria-label="The value">{shown.text}</pre>
      {#if !shown.isWhole}
        <button class="btn btn-xs mt-2" onclick={() => (bytes *= 4)}>Show more</button>
      {/if}
    {/if}
  {:else if isRead}
    <p class="py-3 text-sm">It is not in the cache, or it is a negative entry: the origin has no value.</p>
    <button class="btn btn-xs" onclick={load}>Read again</button>
    <button class="btn btn-xs" disabled={isRefilling} onclick={refill}>Refill now</button>
  {/if}
  {#if isRead}
    <h3 class="mt-4 border-b border-base-300 pb-1 text-sm font-semibold">Recent refills of this key</h3>
    {#if refills.length}
      <div class="overflow-x-auto">
        <table class="table table-xs text-sm">
          <thead>
            <tr class="text-base-content">
              <th scope="col">Time</th><th scope="col">Holder</th><th scope="col">Outcome</th>
              <th scope="col" class="text-right">Took</th><th scope="col" class="text-right">Waited</th>
            </tr>
          </thead>
          <tbody>
            {#each refills as refill (refill.at)}
              <tr>
                <td class="whitespace-nowrap">{format.moment(refill.at).slice(11)}</td>
                <td>{refill.holder}</td>
                <td>{refill.outcome}</td>
                <td class="text-right whitespace-nowrap">{format.milliseconds(refill.took_seconds * 1000)}</td>
                <td class="text-right whitespace-nowrap">
                  {#if refill.waiters > 0}{format.count(refill.waiters)}, up to {format.milliseconds(refill.max_wait_seconds * 1000)}{:else}nobody{/if}
                </td>
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
    {:else}
      <p class="py-1 text-sm">None among the latest refills of the service.</p>
    {/if}
  {/if}
</section>

<Dialog title="Edit {entryKey}" action="Store it" wide bind:this={edit} onaction={store}>
  {#if isText}
    <label class="text-sm font-medium" for="edit-value">Value</label>
    <textarea id="edit-value" class="textarea mb-3 h-64 w-full font-mono text-xs" spellcheck="false" bind:value></textarea>
  {:else}
    <p class="mb-3 text-sm">The value is no text and stays as it is.</p>
  {/if}
  <div class="grid gap-3 sm:grid-cols-3">
    <Field label="Max-age" bind:value={maxAge} required />
    <Field label="Tags" bind:value={tags} hint="Separated by spaces" />
    <Field label="Media type" bind:value={mediaType} required />
  </div>
  <p class="mt-3 text-sm">If somebody has stored another value since you read this one, nothing is overwritten.</p>
</Dialog>

<Dialog
  title="Delete {entryKey}?"
  action="Delete it"
  danger
  bind:this={remove}
  onaction={async () => {
    await api.deleteEntry(tenant, namespace, entryKey);
    onchanged();
    await load();
  }}
>
  <p>The next read refills it, where there is an origin or a service that does.</p>
</Dialog>
