<script lang="ts">
  import type { LaneFigures } from '../lib/api';
  import * as format from '../lib/format';

  let { cached, direct }: { cached: LaneFigures; direct: LaneFigures } = $props();

  const rows: [string, (lane: LaneFigures) => string][] = [
    ['Requests', (l) => format.count(l.requests)],
    ['Errors', (l) => format.count(l.errors)],
    ['Throughput', (l) => format.rate(l.per_second)],
    ['p50', (l) => format.milliseconds(l.p50_ms)],
    ['p90', (l) => format.milliseconds(l.p90_ms)],
    ['p99', (l) => format.milliseconds(l.p99_ms)],
    ['Slowest', (l) => format.milliseconds(l.max_ms)],
    ['Hit ratio', (l) => format.share(l.hit_ratio)],
    ['Origin calls', (l) => format.count(l.origin_calls)],
  ];
</script>

<table class="table table-xs text-sm">
  <caption class="sr-only">Figures of both lanes</caption>
  <thead>
    <tr class="text-base-content">
      <td></td>
      <th scope="col" class="text-right">
        <span class="lane-line lane-cached"></span> <span class="lane-cached">cached</span>
      </th>
      <th scope="col" class="text-right">
        <span class="lane-line lane-direct"></span> <span class="lane-direct">direct</span>
      </th>
    </tr>
  </thead>
  <tbody>
    {#each rows as [name, figure] (name)}
      <tr>
        <th scope="row" class="font-medium">{name}</th>
        <td class="text-right">{figure(cached)}</td>
        <td class="text-right">{figure(direct)}</td>
      </tr>
    {/each}
  </tbody>
</table>
