<script lang="ts">
  import { onMount } from 'svelte';
  import { api, messageOf, type ActivityItem } from '../lib/api';
  import { parameter, setParameters } from '../lib/address';
  import * as format from '../lib/format';
  import { activity as page } from '../lib/pages';
  import { signed } from '../lib/session.svelte';
  import DataTable, { type Column } from '../components/DataTable.svelte';
  import Heading from '../components/Heading.svelte';
  import Problem from '../components/Problem.svelte';

  let rows = $state.raw<ActivityItem[] | null>(null);
  let tenants = $state.raw<string[]>([]);
  let problem = $state('');

  const words = $derived(parameter('filter').toLowerCase().split(/\s+/).filter(Boolean));
  const shown = $derived(
    (rows ?? []).filter((row) => {
      const text = `${row.action} ${row.subject} ${row.actor} ${detail(row)}`.toLowerCase();
      return words.every((word) => text.includes(word));
    }),
  );

  /** The details in words: `max_entries 10, reserve_bytes 0`. */
  function detail(row: ActivityItem): string {
    const parts = Object.entries((row.detail ?? {}) as Record<string, unknown>);
    return parts
      .filter(([, value]) => value !== null && value !== '')
      .map(([name, value]) => `${name.replaceAll('_', ' ')} ${inWords(value)}`)
      .join(', ');
  }

  /** A value in words; one that changed with what it was before. */
  function inWords(value: unknown): string {
    if (typeof value !== 'object' || value === null) return `${value ?? '–'}`;
    if ('before' in value && 'after' in value) return `${inWords(value.before)} → ${inWords(value.after)}`;
    return JSON.stringify(value);
  }

  async function load() {
    try {
      tenants = (await api.tenants()).map((t) => t.name).filter((t) => signed.may('manage', t));
      const tenant = parameter('tenant') || (signed.isAdmin ? '' : (tenants[0] ?? ''));
      rows = await api.activity(tenant);
      problem = '';
    } catch (error) {
      problem = messageOf(error);
    }
  }

  /** Saves what is shown, one JSON object a line. */
  function save() {
    const lines = shown.map((row) => JSON.stringify(row)).join('\n');
    const link = document.createElement('a');
    link.href = URL.createObjectURL(new Blob([lines, '\n'], { type: 'application/jsonl' }));
    link.download = 'activity.jsonl';
    link.click();
    URL.revokeObjectURL(link.href);
  }

  onMount(() => {
    void load();
    const again = setInterval(load, 5_000);
    return () => clearInterval(again);
  });

  const columns: Column<ActivityItem>[] = [
    { key: 'at', title: 'At', value: (row) => row.at, text: (row) => format.moment(row.at), whole: true },
    { key: 'action', title: 'Action', value: (row) => row.action, whole: true },
    { key: 'subject', title: 'Subject', value: (row) => row.subject },
    { key: 'actor', title: 'Actor', value: (row) => row.actor, whole: true },
    { key: 'tenant', title: 'Tenant', value: (row) => row.tenant, extra: true },
    { key: 'detail', title: 'Details', value: detail },
  ];
</script>

{#if rows}
  <Heading question={page.question} answer="{rows.length >= 500 ? 'The latest ' : ''}{format.count(rows.length)} change{rows.length === 1 ? '' : 's'}">
    {#if rows[0]}the latest by {rows[0].actor}, {format.moment(rows[0].at)}.{:else}nobody changed anything yet.{/if}
  </Heading>
{:else}
  <Heading question={page.question} answer="…">Loading.</Heading>
{/if}
<Problem message={problem} onretry={load} />

<div class="flex flex-wrap items-end gap-3">
  <label class="text-sm font-medium">
    Filter
    <input
      class="input input-sm w-72"
      type="search"
      placeholder="action, subject, actor or detail"
      value={parameter('filter')}
      oninput={(e) => setParameters({ filter: e.currentTarget.value })}
    />
  </label>
  <label class="text-sm font-medium">
    Tenant
    <select
      class="select select-sm w-44"
      value={parameter('tenant')}
      onchange={(e) => (setParameters({ tenant: e.currentTarget.value }), load())}
    >
      {#if signed.isAdmin}<option value="">all</option>{/if}
      {#each tenants as tenant (tenant)}<option>{tenant}</option>{/each}
    </select>
  </label>
  <span class="grow"></span>
  <button class="btn btn-sm" onclick={save} disabled={shown.length === 0}>Save as JSON lines</button>
</div>

{#if rows}
  <DataTable name="Activity" {columns} rows={shown} key={(row) => row.id} order="-at">
    {#snippet empty()}None of the latest changes matches.{/snippet}
  </DataTable>
{/if}
