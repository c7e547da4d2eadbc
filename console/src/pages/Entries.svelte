<script lang="ts">
  import { onMount, untrack } from 'svelte';
  import { api, messageOf, type EntrySummary } from '../lib/api';
  import { parameter, setParameters } from '../lib/address';
  import * as format from '../lib/format';
  import { entries as page } from '../lib/pages';
  import { signed } from '../lib/session.svelte';
  import DataTable, { type Column } from '../components/DataTable.svelte';
  import Dialog from '../components/Dialog.svelte';
  import EntryView from '../components/EntryView.svelte';
  import Field from '../components/Field.svelte';
  import Heading from '../components/Heading.svelte';
  import Problem from '../components/Problem.svelte';

  /** How many entries are fetched at most, page by page. */
  const MOST = 2_000;

  let places = $state.raw<string[]>([]);
  let rows = $state.raw<EntrySummary[] | null>(null);
  let cursor = $state<string | null>(null);
  let total = $state(0);
  let problem = $state('');
  let tag = $state('');
  let invalidate: Dialog;

  const place = $derived(parameter('namespace'));
  const prefix = $derived(parameter('prefix'));
  const state_ = $derived(parameter('state'));
  const byTag = $derived(parameter('tag'));
  const key = $derived(parameter('key'));
  const [tenant = '', name = ''] = $derived(place.split('/'));
  const shown = $derived(
    (rows ?? []).filter(
      (row) =>
        (!byTag || row.tags.includes(byTag)) &&
        (!state_ || stateOf(row) === state_ || (state_ === 'fresh' && stateOf(row) === 'ends soon')),
    ),
  );

  function stateOf(row: EntrySummary): string {
    if (row.time_left_seconds <= 0) return 'stale';
    return row.time_left_seconds < 60 ? 'ends soon' : 'fresh';
  }

  async function load(more = false) {
    if (!place) {
      rows = null;
      return;
    }
    try {
      const [of = '', within = ''] = place.split('/');
      let [found, next] = more && rows ? [rows, cursor ?? ''] : [[] as EntrySummary[], ''];
      const until = found.length + (more ? MOST : 200);
      do {
        const listed = await api.entries(of, within, prefix, next);
        found = [...found, ...listed.items];
        next = listed.cursor ?? '';
      } while (next && found.length < until);
      [rows, cursor] = [found, next || null];
      total = (await api.namespace(of, within)).value.usage.entries;
      problem = '';
    } catch (error) {
      [rows, problem] = [null, messageOf(error)];
    }
  }

  onMount(async () => {
    try {
      const tenants = await api.tenants();
      const all = (await Promise.all(tenants.map((t) => api.namespaces(t.name)))).flat();
      places = all.filter((n) => signed.may('read', n.tenant, n.name)).map((n) => `${n.tenant}/${n.name}`);
      if (!place && places[0]) setParameters({ namespace: places[0] });
    } catch (error) {
      problem = messageOf(error);
    }
  });

  $effect(() => {
    void [place, prefix];
    void untrack(() => load());
  });

  const columns: Column<EntrySummary>[] = [
    { key: 'key', title: 'Key', value: (row) => row.key, cell: keyCell },
    { key: 'size', title: 'Size', value: (row) => row.value_bytes, text: (row) => format.bytes(row.value_bytes), right: true },
    { key: 'memory', title: 'Memory', value: (row) => row.memory_bytes, text: (row) => format.bytes(row.memory_bytes), right: true, extra: true },
    { key: 'age', title: 'Age', value: (row) => row.age_seconds, text: (row) => format.time(row.age_seconds), right: true },
    {
      key: 'left',
      title: 'Time left',
      value: (row) => row.time_left_seconds,
      text: (row) => (row.time_left_seconds > 0 ? format.time(row.time_left_seconds) : `stale for ${format.time(-row.time_left_seconds)}`),
      right: true,
    },
    { key: 'type', title: 'Media type', value: (row) => row.media_type },
    { key: 'tags', title: 'Tags', value: (row) => row.tags.join(', ') },
    { key: 'revision', title: 'Revision', value: (row) => row.revision, text: (row) => `${row.revision}`, right: true, extra: true },
  ];
</script>

{#snippet keyCell(row: EntrySummary)}
  <button class="link link-hover text-left font-medium break-all" onclick={() => setParameters({ key: row.key })}>{row.key}</button>
{/snippet}

{#if rows}
  <Heading question={page.question} answer="{format.count(total)} entr{total === 1 ? 'y' : 'ies'}">
    in {place}{#if cursor}; {format.count(rows.length)} of those {prefix ? `with “${prefix}” ` : ''}are listed here, so sorting and filters
      see only these{:else if prefix}; {format.count(rows.length)} start with “{prefix}”{/if}.
  </Heading>
{:else}
  <Heading question={page.question} answer="…">{places.length === 0 ? 'No namespace that this session may read.' : 'Loading.'}</Heading>
{/if}
<Problem message={problem} onretry={() => load()} />

<div class="flex flex-wrap items-end gap-3">
  <label class="text-sm font-medium">
    Namespace
    <select
      class="select select-sm w-56"
      value={place}
      onchange={(e) => setParameters({ namespace: e.currentTarget.value, prefix: '', tag: '', key: '' })}
    >
      {#each places as path (path)}<option>{path}</option>{/each}
    </select>
  </label>
  <label class="text-sm font-medium">
    Prefix
    <input class="input input-sm w-48" value={prefix} onchange={(e) => setParameters({ prefix: e.currentTarget.value })} />
  </label>
  <label class="text-sm font-medium">
    Tag
    <input class="input input-sm w-40" value={byTag} onchange={(e) => setParameters({ tag: e.currentTarget.value })} />
  </label>
  <label class="text-sm font-medium">
    State
    <select class="select select-sm w-32" value={state_} onchange={(e) => setParameters({ state: e.currentTarget.value })}>
      <option value="">all</option>
      <option>fresh</option>
      <option>ends soon</option>
      <option>stale</option>
    </select>
  </label>
  <span class="grow"></span>
  {#if place && (signed.may('write', tenant, name) || signed.may('invalidate', tenant, name))}
    <button class="btn btn-sm" onclick={() => ((tag = byTag), invalidate.open())}>Invalidate a tag</button>
  {/if}
</div>

<div class="mt-3 grid gap-6 {key ? 'lg:grid-cols-[3fr_2fr]' : ''}">
  <div class="min-w-0">
    {#if rows}
      <DataTable name="Entries" {columns} rows={shown} key={(row) => row.key}>
        {#snippet empty()}No entry {prefix || byTag || state_ ? 'matches' : 'is stored here'}.{/snippet}
      </DataTable>
      {#if cursor}
        <button class="btn btn-sm mt-2" onclick={() => load(true)}>List {format.count(MOST)} more</button>
      {/if}
    {/if}
  </div>
  {#if key && place}
    {#key `${place} ${key}`}
      <EntryView {tenant} namespace={name} entryKey={key} onchanged={() => load()} onclose={() => setParameters({ key: '' })} />
    {/key}
  {/if}
</div>

<Dialog
  title="Invalidate a tag of {place}"
  action="Invalidate it"
  danger
  bind:this={invalidate}
  onaction={async () => {
    await api.invalidateTag(tenant, name, tag.trim());
    await load();
  }}
>
  <p class="mb-3">Every entry with the tag goes, and active refills are not stored.</p>
  <Field label="Tag" bind:value={tag} required />
</Dialog>
