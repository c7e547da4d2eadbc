<script lang="ts">
  import type { LiveSample } from '../lib/api';
  import { parameter, setParameters } from '../lib/address';
  import * as format from '../lib/format';
  import { average } from '../lib/averages';
  import DataTable, { type Column } from './DataTable.svelte';

  let { samples }: { samples: LiveSample[] } = $props();

  type Row = ReturnType<typeof average>[number];

  // Quiet namespaces have no reads in most seconds; ten of them say more than one.
  const rows = $derived(average(samples.slice(-10)));
  const filter = $derived(parameter('filter').toLowerCase());
  const shown = $derived(rows.filter((row) => row.path.includes(filter)));

  const columns: Column<Row>[] = [
    { key: 'namespace', title: 'Namespace', value: (row) => row.path, cell: pathCell },
    { key: 'reads', title: 'Reads', value: (row) => row.readsPerSecond, text: (row) => format.rate(row.readsPerSecond), right: true },
    { key: 'hits', title: 'Hit ratio', value: (row) => row.hitRatio, text: (row) => format.share(row.hitRatio), right: true },
    { key: 'hit', title: 'Hit p50', value: (row) => row.hitP50, text: (row) => format.milliseconds(row.hitP50), right: true },
    { key: 'calls', title: 'Origin calls', value: (row) => row.originPerSecond, cell: callsCell, right: true },
    { key: 'origin', title: 'Origin p50', value: (row) => row.originP50, text: (row) => format.milliseconds(row.originP50), right: true },
    { key: 'entries', title: 'Entries', value: (row) => row.entries, text: (row) => format.count(row.entries), right: true },
    { key: 'memory', title: 'Memory', value: (row) => row.bytes, text: (row) => format.bytes(row.bytes), right: true },
  ];
</script>

{#snippet pathCell(row: Row)}
  <a class="link link-hover" href="/tenants/{row.path}">{row.path}</a>
{/snippet}
{#snippet callsCell(row: Row)}
  {format.rate(row.originPerSecond)}
  {#if row.originErrors > 0}
    <span class="font-semibold text-error">({format.count(row.originErrors)} failed)</span>
  {/if}
{/snippet}

{#if rows.length > 12}
  <label class="mt-2 block text-sm font-medium">
    Filter
    <input
      class="input input-sm w-56"
      type="search"
      placeholder="part of a name"
      value={parameter('filter')}
      oninput={(e) => setParameters({ filter: e.currentTarget.value })}
    />
  </label>
{/if}
<DataTable name="Namespaces over the last ten seconds" {columns} rows={shown} key={(row) => row.path} order="namespace">
  {#snippet empty()}
    {#if rows.length}No namespace has “{filter}” in its name.{:else}
      No namespaces yet. Create one: <code>verax namespace create TENANT/NAMESPACE</code>{/if}
  {/snippet}
</DataTable>
