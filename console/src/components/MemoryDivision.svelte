<script lang="ts">
  import { api, type DividedNamespace } from '../lib/api';
  import * as format from '../lib/format';
  import { Repeated } from '../lib/repeated.svelte';
  import DataTable, { type Column } from './DataTable.svelte';
  import Problem from './Problem.svelte';

  interface Props {
    /** Only namespaces with this in their path are listed. */
    filter: string;
  }

  let { filter }: Props = $props();

  const asked = new Repeated(() => api.memoryDivision(), 15_000);
  const division = $derived(asked.value);

  const path = (row: DividedNamespace) => `${row.tenant}/${row.namespace}`;
  const rows = $derived((division?.namespaces ?? []).filter((row) => path(row).includes(filter)));

  const columns: Column<DividedNamespace>[] = [
    { key: 'namespace', title: 'Namespace', value: path, cell: pathCell },
    { key: 'now', title: 'Memory now', value: (row) => row.bytes_now, text: (row) => format.bytes(row.bytes_now), right: true },
    {
      key: 'then',
      title: 'Suggested',
      value: (row) => (row.is_known ? row.bytes_then : null),
      text: (row) => (row.is_known ? format.bytes(row.bytes_then) : 'unknown'),
      right: true,
    },
    {
      key: 'reserve',
      title: 'Reserve',
      value: (row) => row.reserve_bytes,
      text: (row) => (row.reserve_bytes ? format.bytes(row.reserve_bytes) : format.NONE),
      right: true,
    },
    { key: 'reads', title: 'Reads', value: (row) => row.reads_per_second, text: (row) => format.rate(row.reads_per_second), right: true },
    { key: 'ratio-now', title: 'Hit ratio now', value: (row) => row.hit_ratio_now, text: (row) => format.share(row.hit_ratio_now), right: true },
    { key: 'ratio-then', title: 'Hit ratio then', value: (row) => row.hit_ratio_then, text: (row) => format.share(row.hit_ratio_then), right: true },
  ];
</script>

{#snippet pathCell(row: DividedNamespace)}
  <a class="link" href="/tenants/{row.tenant}/{row.namespace}">{path(row)}</a>
{/snippet}

<section aria-labelledby="division-title" class="mt-6">
  <h2 id="division-title" class="font-semibold">Which division of memory saves most origin reads?</h2>
  <Problem message={asked.problem} onretry={asked.load} />
  {#if division}
    <p class="py-1 text-sm" data-memory-division>
      {#each division.remarks as remark (remark)}{remark}{' '}{/each}
      Divided: {format.bytes(division.bytes)}. Misses now {format.rate(division.misses_per_second_now)}, then
      {format.rate(division.misses_per_second_then)}.
    </p>
    <DataTable name="Division of memory" {columns} {rows} key={path}>
      {#snippet empty()}No namespace that you may observe{filter ? ` has “${filter}” in its name` : ''}.{/snippet}
    </DataTable>
  {:else if !asked.problem}
    <p class="py-3 text-sm">Loading.</p>
  {/if}
</section>
