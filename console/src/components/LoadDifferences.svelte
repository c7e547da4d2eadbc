<script lang="ts">
  import type { RunComparison } from '../lib/api';
  import * as format from '../lib/format';
  import { verdictOf } from '../lib/load-series';

  let { comparison }: { comparison: RunComparison } = $props();

  function write(value: number, unit: string): string {
    if (unit === 'ms') return format.milliseconds(value);
    return unit === '/s' ? format.rate(value) : format.share(value);
  }
</script>

<table class="table table-xs text-sm">
  <thead>
    <tr class="text-base-content">
      <th scope="col">Lane</th>
      <th scope="col">Figure</th>
      <th scope="col" class="text-right">Run {comparison.before}</th>
      <th scope="col" class="text-right">Run {comparison.after}</th>
      <th scope="col" class="text-right">Ratio</th>
      <th scope="col" class="text-right">95 % between</th>
      <th scope="col">Comes to</th>
    </tr>
  </thead>
  <tbody>
    {#each comparison.differences as difference (`${difference.lane} ${difference.figure}`)}
      <tr>
        <td>{difference.lane}</td>
        <th scope="row" class="font-medium">{difference.figure}</th>
        <td class="text-right">{write(difference.before, difference.unit)}</td>
        <td class="text-right">{write(difference.after, difference.unit)}</td>
        <td class="text-right">{difference.ratio.toFixed(3)}</td>
        <td class="text-right">
          {difference.interval ? `${difference.interval.low.toFixed(3)} to ${difference.interval.high.toFixed(3)}` : format.NONE}
        </td>
        <td class:text-error={difference.verdict === 'worse'} class:font-semibold={difference.verdict !== 'no-difference'}>
          {verdictOf(difference.verdict)}
        </td>
      </tr>
    {/each}
  </tbody>
</table>
