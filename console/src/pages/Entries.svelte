<script lang="ts">
  import { onMount, untrack } from 'svelte';
  import { api, messageOf, type EntryPage, type EntrySummary, type SearchStep } from '../lib/api';
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

  type Found = SearchStep['items'][number];

  /** The orders of a sample, by the name that the address has. */
  const ORDERS: [string, string][] = [
    ['largest', 'largest first'],
    ['smallest', 'smallest first'],
    ['oldest', 'oldest first'],
    ['newest', 'newest first'],
    ['ends-first', 'ends first'],
    ['ends-last', 'ends last'],
  ];

  /** How many entries are fetched at most, page by page. */
  const MOST = 2_000;

  let places = $state.raw<string[]>([]);
  let rows = $state.raw<EntrySummary[] | null>(null);
  let cursor = $state<string | null>(null);
  let total = $state(0);
  let problem = $state('');
  let sample = $state.raw<EntryPage['sample']>(null);
  let found = $state.raw<SearchStep | null>(null);
  let isSearching = $state(false);
  let searchProblem = $state('');
  let tag = $state('');
  let wouldGo = $state<number | null>(null);
  let invalidate: Dialog;

  const place = $derived(parameter('namespace'));
  const prefix = $derived(parameter('prefix'));
  const state_ = $derived(parameter('state'));
  const order = $derived(parameter('order'));
  const query = $derived(parameter('where'));
  const byTag = $derived(parameter('tag'));
  const key = $derived(parameter('key'));
  const [tenant = '', name = ''] = $derived(place.split('/'));
  async function load(more = false) {
    if (!place) {
      rows = null;
      return;
    }
    try {
      const [of = '', within = ''] = place.split('/');
      let [listed, next] = more && rows ? [rows, cursor ?? ''] : [[] as EntrySummary[], ''];
      const until = listed.length + (more ? MOST : 200);
      do {
        const page = await api.entries(of, within, { prefix, tag: byTag, state: state_, order, cursor: next });
        listed = [...listed, ...page.items];
        next = page.cursor ?? '';
        sample = page.sample;
      } while (next && listed.length < until);
      [rows, cursor] = [listed, next || null];
      total = (await api.namespace(of, within)).value.usage.entries;
      problem = '';
    } catch (error) {
      [rows, problem] = [null, messageOf(error)];
    }
  }

  /** Finds entries by their values, step by step; `more` goes on where the last search stopped. */
  async function search(more = false) {
    if (!query || !place) {
      [found, searchProblem] = [null, ''];
      return;
    }
    const [of, within, wanted] = [tenant, name, query];
    [isSearching, searchProblem] = [true, ''];
    let all: SearchStep = more && found ? found : { looked_at: 0, not_json: 0, too_large: 0, items: [] };
    const until = all.items.length + 200;
    let cursor = more ? (all.cursor ?? '') : '';
    try {
      do {
        const step = await api.search(of, within, wanted, prefix, cursor);
        // Another search may have begun meanwhile.
        if (wanted !== query) return;
        cursor = step.cursor ?? '';
        all = {
          looked_at: all.looked_at + step.looked_at,
          not_json: all.not_json + step.not_json,
          too_large: all.too_large + step.too_large,
          items: [...all.items, ...step.items],
          cursor: step.cursor,
        };
        found = all;
      } while (cursor && all.items.length < until);
    } catch (error) {
      [found, searchProblem] = [null, messageOf(error)];
    } finally {
      isSearching = false;
    }
  }

  onMount(async () => {
    try {
      const all = await api.allNamespaces();
      places = all.filter((n) => signed.may('read', n.tenant, n.name)).map((n) => `${n.tenant}/${n.name}`);
      if (!place && places[0]) setParameters({ namespace: places[0] });
    } catch (error) {
      problem = messageOf(error);
    }
  });

  $effect(() => {
    void [place, prefix, byTag, state_, order];
    void untrack(() => load());
  });

  $effect(() => {
    void [place, prefix, query];
    void untrack(() => search());
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

  const foundColumns: Column<Found>[] = [
    { key: 'key', title: 'Key', value: (row) => row.key, cell: foundCell },
    { key: 'size', title: 'Size', value: (row) => row.value_bytes, text: (row) => format.bytes(row.value_bytes), right: true },
    { key: 'count', title: 'Parts', value: (row) => row.count, right: true },
    { key: 'first', title: 'First', value: (row) => row.parts[0] ?? '' },
  ];
</script>

{#snippet foundCell(row: Found)}
  <button class="link link-hover min-w-44 text-left font-medium break-all" onclick={() => setParameters({ key: row.key })}>{row.key}</button>
{/snippet}
{#snippet keyCell(row: EntrySummary)}
  <button class="link link-hover text-left font-medium break-all" onclick={() => setParameters({ key: row.key })}>{row.key}</button>
{/snippet}

{#if rows}
  <Heading question={page.question} answer="{format.count(total)} entr{total === 1 ? 'y' : 'ies'}">
    in {place}{#if sample && !sample.is_whole}; these are the first of a sample of {format.count(sample.looked_at)} entries{:else if cursor};
      {format.count(rows.length)} of those that match are listed here{:else if prefix || byTag || state_}; {format.count(rows.length)}
      match{/if}.
  </Heading>
{:else}
  <Heading question={page.question} answer="…">{places.length === 0 ? 'No namespace that this session may read.' : 'Loading.'}</Heading>
{/if}
<Problem message={problem} onretry={() => load()} />
<Problem message={searchProblem} onretry={() => search()} />

<div class="flex flex-wrap items-end gap-3">
  <label class="text-sm font-medium">
    Namespace
    <select
      class="select select-sm w-56"
      value={place}
      onchange={(e) => setParameters({ namespace: e.currentTarget.value, prefix: '', tag: '', where: '', key: '' })}
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
      <option value="fresh">fresh</option>
      <option value="ends-soon">ends soon</option>
      <option value="stale">stale</option>
    </select>
  </label>
  <label class="text-sm font-medium">
    Order
    <select class="select select-sm w-36" value={order} onchange={(e) => setParameters({ order: e.currentTarget.value })}>
      <option value="">by key</option>
      {#each ORDERS as [value, words] (value)}<option {value}>{words}</option>{/each}
    </select>
  </label>
  <label class="text-sm font-medium">
    Value has
    <input
      class="input input-sm w-80 font-mono"
      placeholder="$.rows[?@.usual_delay_minutes > 2]"
      value={query}
      onchange={(e) => setParameters({ where: e.currentTarget.value.trim() })}
    />
  </label>
  <span class="grow"></span>
  {#if place && (signed.may('write', tenant, name) || signed.may('invalidate', tenant, name))}
    <button class="btn btn-sm" onclick={() => (([tag, wouldGo] = [byTag, null]), invalidate.open())}>Invalidate a tag</button>
  {/if}
</div>

<div class="mt-3 grid gap-6 {key ? 'lg:grid-cols-[3fr_2fr]' : ''}">
  <div class="min-w-0">
    {#if query}
      <p class="pb-1 text-sm" data-found>
        {#if found}
          {format.count(found.items.length)} found among {format.count(found.looked_at)} entries{isSearching ? ' so far' : ''};
          {format.count(found.not_json)} of them are no JSON{#if found.too_large > 0}, and {format.count(found.too_large)} are too large to be
            searched{/if}.{#if !isSearching && found.cursor}
            The search stopped here.{/if}
        {:else if isSearching}Searching.{/if}
      </p>
      {#if found}
        <DataTable name="Found entries" columns={foundColumns} rows={found.items} key={(row) => row.key}>
          {#snippet empty()}No value has what the query asks for.{/snippet}
        </DataTable>
        {#if found.cursor && !isSearching}
          <button class="btn btn-sm mt-2" onclick={() => search(true)}>Search on</button>
        {/if}
      {/if}
    {:else if rows}
      <DataTable name="Entries" {columns} {rows} key={(row) => row.key}>
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
  <div class="mt-2 flex items-center gap-3 text-sm">
    <button
      type="button"
      class="btn btn-xs"
      disabled={!tag.trim()}
      onclick={async () => (wouldGo = await api.countTag(tenant, name, tag.trim()))}>Count them</button
    >
    {#if wouldGo !== null}<output>{format.count(wouldGo)} would go.</output>{/if}
  </div>
</Dialog>
