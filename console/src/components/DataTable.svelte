<script lang="ts" module>
  import type { Snippet } from 'svelte';

  /** A column of a table. */
  export interface Column<Row> {
    /** Its identity, also in the address. */
    key: string;
    title: string;
    /** What it is sorted by, and shown unless there is a cell of its own. */
    value: (row: Row) => string | number | null | undefined;
    /** What is shown; the value when absent. */
    text?: (row: Row) => string;
    cell?: Snippet<[Row]>;
    /** Numbers stand on the right. */
    right?: boolean;
    /** Never broken into lines. */
    whole?: boolean;
    /** Shown only when chosen. */
    extra?: boolean;
  }

  /** The height of a row, in pixels. */
  const ROW = 33;
  /** Beyond this many, only the rows in view are in the page. */
  const VIRTUAL = 100;
</script>

<script lang="ts" generics="Row">
  import { ArrowDown, ArrowUp, Columns3 } from '@lucide/svelte';
  import { createVirtualizer } from '@tanstack/svelte-virtual';
  import { sorted } from '../lib/sorted';
  import { untrack } from 'svelte';

  interface Props {
    /** What the table is about, for assistive technology and for what is remembered of it. */
    name: string;
    columns: Column<Row>[];
    rows: Row[];
    key: (row: Row) => string | number;
    /** What stands there without rows. */
    empty: Snippet;
    /** The column it is first sorted by, with `-` in front for the largest first. */
    order?: string;
  }

  let { name, columns, rows, key, empty, order = '' }: Props = $props();

  const remembered = untrack(() => `verax-columns ${name}`);
  const stored = untrack(() => localStorage.getItem(remembered));
  let chosen = $state<string[]>(
    stored ? JSON.parse(stored) : untrack(() => columns.filter((c) => !c.extra).map((c) => c.key)),
  );
  let by = $state(untrack(() => order));
  let scroller = $state<HTMLDivElement>();

  const shown = $derived(columns.filter((column, at) => at === 0 || chosen.includes(column.key)));
  const all = $derived(sorted(rows, columns.find((c) => c.key === by.replace(/^-/, ''))?.value, by.startsWith('-')));
  const isVirtual = $derived(all.length > VIRTUAL);
  const virtualizer = createVirtualizer<HTMLDivElement, HTMLTableRowElement>({
    count: 0,
    getScrollElement: () => scroller ?? null,
    estimateSize: () => ROW,
    overscan: 12,
  });

  $effect(() => {
    const [count, element] = [isVirtual ? all.length : 0, scroller];
    untrack(() => $virtualizer.setOptions({ count, getScrollElement: () => element ?? null }));
  });

  const items = $derived($virtualizer.getVirtualItems());
  const before = $derived(isVirtual ? (items[0]?.start ?? 0) : 0);
  const after = $derived(isVirtual && items.length ? $virtualizer.getTotalSize() - (items.at(-1)?.end ?? 0) : 0);
  const visible = $derived(isVirtual ? items.map((item) => all[item.index]).filter((row) => row !== undefined) : all);

  function sortBy(column: Column<Row>) {
    // Numbers are first wanted largest first, names in their order.
    const first = column.right ? `-${column.key}` : column.key;
    const second = column.right ? column.key : `-${column.key}`;
    by = by === first ? second : first;
  }

  function choose(column: string, isChosen: boolean) {
    chosen = isChosen ? [...chosen, column] : chosen.filter((key) => key !== column);
    localStorage.setItem(remembered, JSON.stringify(chosen));
  }
</script>

{#if rows.length === 0}
  <div class="py-3 text-sm">{@render empty()}</div>
{:else}
  <div class="flex justify-end">
    <details class="dropdown dropdown-end">
      <summary class="btn btn-ghost btn-xs gap-1" aria-label="Columns of {name}"><Columns3 size={16} /> Columns</summary>
      <ul class="dropdown-content z-10 w-52 border border-base-300 bg-base-100 p-2 shadow">
        {#each columns.slice(1) as column (column.key)}
          <li>
            <label class="flex cursor-pointer items-center gap-2 py-1 text-sm">
              <input
                type="checkbox"
                class="checkbox checkbox-xs"
                checked={chosen.includes(column.key)}
                onchange={(e) => choose(column.key, e.currentTarget.checked)}
              />
              {column.title}
            </label>
          </li>
        {/each}
      </ul>
    </details>
  </div>
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <div
    class="overflow-auto {isVirtual ? 'max-h-[60vh]' : ''}"
    bind:this={scroller}
    tabindex="0"
    role="group"
    aria-label="Table: {name}"
  >
    <table class="table table-xs table-pin-rows text-sm" aria-rowcount={all.length + 1}>
      <caption class="sr-only">{name}</caption>
      <thead>
        <tr class="text-base-content">
          {#each shown as column (column.key)}
            {@const isSorted = by.replace(/^-/, '') === column.key}
            <th
              scope="col"
              class={column.right ? 'text-right' : ''}
              aria-sort={isSorted ? (by.startsWith('-') ? 'descending' : 'ascending') : undefined}
            >
              <button class="cursor-pointer font-semibold hover:underline" onclick={() => sortBy(column)}>
                {column.title}
                {#if isSorted}
                  {#if by.startsWith('-')}<ArrowDown class="inline" size={13} />{:else}<ArrowUp class="inline" size={13} />{/if}
                {/if}
              </button>
            </th>
          {/each}
        </tr>
      </thead>
      <tbody>
        {#if before > 0}<tr aria-hidden="true" style:height="{before}px"></tr>{/if}
        {#each visible as row (key(row))}
          <tr>
            {#each shown as column, at (column.key)}
              {#snippet content()}
                {#if column.cell}{@render column.cell(row)}{:else}{column.text?.(row) ?? column.value(row) ?? '–'}{/if}
              {/snippet}
              {#if at === 0}
                <th scope="row" class="font-medium {column.whole ? 'whitespace-nowrap' : ''}">{@render content()}</th>
              {:else}
                <td class="{column.right ? 'text-right' : ''} {column.right || column.whole ? 'whitespace-nowrap' : ''}">{@render content()}</td>
              {/if}
            {/each}
          </tr>
        {/each}
        {#if after > 0}<tr aria-hidden="true" style:height="{after}px"></tr>{/if}
      </tbody>
    </table>
  </div>
{/if}
