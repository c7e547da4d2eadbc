<script lang="ts">
  import type { LiveSample } from '../lib/api';
  import * as format from '../lib/format';
  import { average } from '../lib/averages';

  let { samples }: { samples: LiveSample[] } = $props();

  // Quiet namespaces have no reads in most seconds; ten of them say more than one.
  const rows = $derived(average(samples.slice(-10)));
</script>

<div class="overflow-x-auto">
  <table class="table table-xs text-sm">
    <caption class="sr-only">Namespaces over the last ten seconds</caption>
    <thead>
      <tr class="text-base-content">
        <th scope="col">Namespace</th>
        <th scope="col" class="text-right">Reads</th>
        <th scope="col" class="text-right">Hit ratio</th>
        <th scope="col" class="text-right">Hit p50</th>
        <th scope="col" class="text-right">Origin calls</th>
        <th scope="col" class="text-right">Origin p50</th>
        <th scope="col" class="text-right">Entries</th>
        <th scope="col" class="text-right">Memory</th>
      </tr>
    </thead>
    <tbody>
      {#each rows as row (row.path)}
        <tr>
          <th scope="row" class="font-medium">{row.path}</th>
          <td class="text-right">{format.rate(row.readsPerSecond)}</td>
          <td class="text-right">{format.share(row.hitRatio)}</td>
          <td class="text-right">{format.milliseconds(row.hitP50)}</td>
          <td class="text-right">
            {format.rate(row.originPerSecond)}
            {#if row.originErrors > 0}
              <span class="font-semibold text-error">({format.count(row.originErrors)} failed)</span>
            {/if}
          </td>
          <td class="text-right">{format.milliseconds(row.originP50)}</td>
          <td class="text-right">{format.count(row.entries)}</td>
          <td class="text-right">{format.bytes(row.bytes)}</td>
        </tr>
      {:else}
        <tr>
          <td colspan="8">
            No namespaces yet. Create one: <code>verax namespace create TENANT/NAMESPACE</code>
          </td>
        </tr>
      {/each}
    </tbody>
  </table>
</div>
