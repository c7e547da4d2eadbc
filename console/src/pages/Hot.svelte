<script lang="ts">
  import { Flame } from '@lucide/svelte';
  import { onMount, untrack } from 'svelte';
  import { api, messageOf, type HotKey, type HotKeys } from '../lib/api';
  import { parameter, setParameters } from '../lib/address';
  import * as format from '../lib/format';
  import { hot as page } from '../lib/pages';
  import { signed } from '../lib/session.svelte';
  import DataTable, { type Column } from '../components/DataTable.svelte';
  import Heading from '../components/Heading.svelte';
  import PlanDialog from '../components/PlanDialog.svelte';
  import Problem from '../components/Problem.svelte';

  /** How often the keys are asked for, in milliseconds. */
  const EVERY = 3_000;

  let places = $state.raw<string[]>([]);
  let hot = $state.raw<HotKeys | null>(null);
  let problem = $state('');
  let kept = $state('');
  let plan: PlanDialog;

  const place = $derived(parameter('namespace'));
  const [tenant = '', name = ''] = $derived(place.split('/'));
  const first = $derived(hot?.keys[0]);
  /** The share of all reads that the ten hottest keys have. */
  const topShare = $derived((hot?.keys ?? []).slice(0, 10).reduce((sum, key) => sum + key.share, 0));

  async function refresh() {
    if (!place) return;
    const asked = place;
    try {
      const [of = '', within = ''] = asked.split('/');
      const answer = await api.hotKeys(of, within);
      if (asked === place) [hot, problem] = [answer, ''];
    } catch (error) {
      [hot, problem] = [null, messageOf(error)];
    }
  }

  onMount(() => {
    void (async () => {
      try {
        const all = await api.allNamespaces();
        places = all.filter((n) => signed.may('read', n.tenant, n.name)).map((n) => `${n.tenant}/${n.name}`);
        if (!place && places[0]) setParameters({ namespace: places[0] });
      } catch (error) {
        problem = messageOf(error);
      }
    })();
    const timer = setInterval(() => void refresh(), EVERY);
    return () => clearInterval(timer);
  });

  $effect(() => {
    void place;
    untrack(() => {
      [hot, kept] = [null, ''];
      void refresh();
    });
  });

  const columns: Column<HotKey>[] = [
    { key: 'key', title: 'Key', value: (row) => row.key, cell: keyCell },
    { key: 'reads', title: 'Reads', value: (row) => row.reads_per_second, text: (row) => format.rate(row.reads_per_second), right: true },
    { key: 'share', title: 'Of all reads', value: (row) => row.share, cell: shareCell, right: true },
    { key: 'hits', title: 'Hit ratio', value: (row) => row.hit_ratio, text: (row) => format.share(row.hit_ratio), right: true },
    { key: 'state', title: 'State', value: (row) => row.state },
    { key: 'value', title: 'Value', value: (row) => row.value_bytes, text: (row) => (row.value_bytes == null ? format.NONE : format.bytes(row.value_bytes)), right: true },
    { key: 'refill', title: 'Last refill', value: (row) => row.refill_ms, text: (row) => format.milliseconds(row.refill_ms), right: true },
    {
      key: 'cold',
      title: 'Would wait if cold',
      value: (row) => row.waiting_if_cold,
      text: (row) => (row.waiting_if_cold == null ? format.NONE : row.waiting_if_cold.toFixed(1)),
      right: true,
    },
    { key: 'over', title: 'Over by at most', value: (row) => row.may_be_over_by, text: (row) => format.rate(row.may_be_over_by), right: true, extra: true },
  ];

  function makePlan() {
    const keys = Math.min(hot?.keys.length ?? 0, 50);
    plan.create(tenant, {
      namespace: name,
      note: '',
      keys: [{ hottest: Math.max(keys, 1) }],
      order: 'hottest-first',
    });
  }
</script>

{#snippet keyCell(row: HotKey)}
  <a class="link break-all" href="/entries?{new URLSearchParams({ namespace: place, key: row.key })}">{row.key}</a>
{/snippet}
{#snippet shareCell(row: HotKey)}
  <span class="inline-flex items-center justify-end gap-2">
    <span class="h-2 w-20 bg-base-300" aria-hidden="true">
      <span class="block h-2 bg-primary" style:width="{Math.min(row.share * 100, 100)}%"></span>
    </span>
    <span class="w-14">{format.share(row.share)}</span>
  </span>
{/snippet}

<Heading question={page.question} answer={first?.key ?? (hot ? 'Nothing yet' : '…')}>
  {#if hot && first}
    is read {format.rate(first.reads_per_second)}, {format.share(first.share)} of all reads of {place}; the ten
    hottest keys together have {format.share(Math.min(topShare, 1))} of {format.rate(hot.reads_per_second)}.
  {:else}
    Keys show here once a namespace is read.
  {/if}
</Heading>

<div class="flex flex-wrap items-end gap-3 border-y border-base-300 py-3">
  <label class="flex flex-col gap-1">
    <span class="text-sm font-medium">Namespace</span>
    <select class="select select-sm min-w-52" value={place} onchange={(e) => setParameters({ namespace: e.currentTarget.value })}>
      {#each places as path (path)}<option value={path}>{path}</option>{/each}
    </select>
  </label>
  {#if first && signed.may('warm', tenant, name)}
    <button class="btn btn-sm" onclick={makePlan}><Flame size={16} /> Make a plan of these</button>
  {/if}
  {#if hot && first}
    <p class="max-w-xl self-center text-sm">
      Observed for {format.time(hot.observed_seconds)}; a read counts half after {format.time(hot.half_life_seconds)}.
      “Would wait”: readers that a refill makes wait if the key goes cold.
    </p>
  {/if}
</div>
<Problem message={problem} onretry={refresh} />
{#if kept}<p class="mt-2 text-sm" role="status">{kept} <a class="link" href="/warming">See it among the warm plans.</a></p>{/if}

{#if hot}
  <DataTable name="hot keys" {columns} rows={hot.keys} key={(row) => row.key} order="-reads">
    {#snippet empty()}No reads of {place} since Verax started. Read a key, or choose another namespace.{/snippet}
  </DataTable>
{/if}

<PlanDialog bind:this={plan} onchanged={(path) => (kept = `The plan ${path} is kept.`)} />
