<script lang="ts">
  import { onMount } from 'svelte';
  import { api, messageOf, type CheckStep, type DamageReports } from '../lib/api';
  import * as format from '../lib/format';
  import DataTable, { type Column } from './DataTable.svelte';
  import Problem from './Problem.svelte';

  interface Props {
    tenant: string;
    namespace: string;
    /** Whether the session may remove what is damaged. */
    mayRemove: boolean;
  }

  let { tenant, namespace, mayRemove }: Props = $props();

  type Damaged = CheckStep['damaged'][number];
  type Report = DamageReports['items'][number];
  let reports = $state.raw<DamageReports | null>(null);
  let damaged = $state.raw<Damaged[] | null>(null);
  let checked = $state(0);
  let isBusy = $state(false);
  let problem = $state('');

  async function load() {
    try {
      reports = await api.damageReports(tenant, namespace);
    } catch (error) {
      problem = messageOf(error);
    }
  }

  async function check(remove: boolean) {
    [isBusy, checked, damaged, problem] = [true, 0, [], ''];
    try {
      let cursor = '';
      do {
        const step = await api.check(tenant, namespace, cursor, remove);
        checked += step.checked;
        damaged = [...damaged, ...step.damaged];
        cursor = step.cursor ?? '';
      } while (cursor);
    } catch (error) {
      problem = messageOf(error);
    } finally {
      isBusy = false;
    }
  }

  onMount(() => {
    void load();
    const again = setInterval(load, 5_000);
    return () => clearInterval(again);
  });

  const found: Column<Damaged>[] = [
    { key: 'key', title: 'Key', value: (row) => row.key },
    { key: 'at', title: 'Line, column', value: (row) => row.line, text: (row) => `${row.line}, ${row.column}`, right: true },
    { key: 'reason', title: 'Reason', value: (row) => row.reason },
    { key: 'outcome', title: 'Outcome', value: (row) => (row.removed ? 'removed' : '') },
  ];
  const reported: Column<Report>[] = [
    { key: 'at', title: 'Time', value: (row) => row.at, text: (row) => format.moment(row.at), whole: true },
    { key: 'key', title: 'Key', value: (row) => row.key },
    { key: 'reporter', title: 'Reporter', value: (row) => row.reporter },
    { key: 'reason', title: 'Reason', value: (row) => row.reason },
    { key: 'outcome', title: 'Outcome', value: (row) => (row.removed ? 'removed' : 'not removed') },
  ];
</script>

<section aria-labelledby="damage-title" class="mt-6">
  <div class="flex flex-wrap items-center gap-2 border-b border-base-300 pb-1">
    <h2 id="damage-title" class="grow font-semibold">Is a stored value damaged?</h2>
    <button class="btn btn-xs" disabled={isBusy} onclick={() => check(false)}>Check stored values</button>
    {#if mayRemove && damaged && damaged.some((row) => !row.removed)}
      <button class="btn btn-xs btn-error" disabled={isBusy} onclick={() => check(true)}>Remove the damaged ones</button>
    {/if}
  </div>
  <Problem message={problem} onretry={load} />
  {#if damaged}
    <p class="py-1 text-sm" data-checked>
      {format.count(checked)} entries checked{isBusy ? ' so far' : ''}, {damaged.length ? format.count(damaged.length) : 'none'} damaged.
    </p>
    {#if damaged.length}
      <DataTable name="Damaged values" columns={found} rows={damaged} key={(row) => row.key}>{#snippet empty()}{/snippet}</DataTable>
    {/if}
  {/if}
  {#if reports}
    <p class="py-1 text-sm">
      {#if reports.reports === 0}
        No client has reported a value that it could not decode.
      {:else}
        Clients reported {format.count(reports.reports)} value{reports.reports === 1 ? '' : 's'} that they could not decode; {format.count(reports.removed)}
        {reports.removed === 1 ? 'was' : 'were'} removed, so that the next read refills {reports.removed === 1 ? 'it' : 'them'}.
      {/if}
    </p>
    {#if reports.items.length}
      <DataTable name="Damage reports" columns={reported} rows={reports.items} key={(row) => `${row.at} ${row.key}`} order="-at">
        {#snippet empty()}{/snippet}
      </DataTable>
    {/if}
  {/if}
</section>
