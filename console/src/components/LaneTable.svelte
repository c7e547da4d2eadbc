<script lang="ts">
  import type { LoadRun } from '../lib/api';
  import * as format from '../lib/format';
  import type { LaneLook } from '../lib/load-series';

  type Lane = NonNullable<LoadRun['report']>['lanes'][number];
  type Interval = NonNullable<Lane['p50_interval']>;

  let { lanes, looks }: { lanes: Lane[]; looks: LaneLook[] } = $props();

  /** An interval with 95 % confidence, its unit once; none while the run is active. */
  const between = (range: Interval | null | undefined, write: (value: number) => string) =>
    range ? `${write(range.low).replace(/( ms|\/s)$/, '')}–${write(range.high)}` : '';

  /** Names, figures, and what stands below a figure in small. */
  const rows: [string, (lane: Lane) => string, ((lane: Lane) => string)?][] = [
    ['Requests', (l) => format.count(l.figures.requests)],
    ['Errors', (l) => format.count(l.figures.errors)],
    ['Unanswered at the end', (l) => format.count(l.unanswered ?? 0)],
    ['Throughput', (l) => format.rate(l.figures.per_second), (l) => between(l.throughput_interval, format.rate)],
    ['p50', (l) => format.milliseconds(l.figures.p50_ms), (l) => between(l.p50_interval, format.milliseconds)],
    ['p90', (l) => format.milliseconds(l.figures.p90_ms)],
    ['p99', (l) => format.milliseconds(l.figures.p99_ms), (l) => between(l.p99_interval, format.milliseconds)],
    ['p99.9', (l) => format.milliseconds(l.figures.p999_ms)],
    ['Slowest', (l) => format.milliseconds(l.figures.max_ms)],
    ['p99 corrected', (l) => format.milliseconds(l.corrected?.p99_ms)],
    ['p99 from sending', (l) => format.milliseconds(l.from_send?.p99_ms)],
    ['Hit ratio', (l) => format.share(l.figures.hit_ratio)],
    ['Origin calls', (l) => format.count(l.figures.origin_calls)],
    ['Writes', (l) => format.count(l.figures.writes ?? 0)],
    ['p50 of the warm-up', (l) => format.milliseconds(l.warm_up?.p50_ms)],
  ];
  /** What no lane has is left out. */
  const shown = $derived(
    rows.filter(([name, figure]) => {
      const optional = ['p99 corrected', 'p99 from sending', 'Writes', 'p50 of the warm-up', 'Unanswered at the end'];
      return !optional.includes(name) || lanes.some((lane) => ![format.NONE, '0'].includes(figure(lane)));
    }),
  );
</script>

<table class="table table-xs text-sm">
  <caption class="sr-only">Figures of the lanes</caption>
  <thead>
    <tr class="text-base-content">
      <td></td>
      {#each lanes as lane, number (lane.name)}
        {@const style = looks[number]?.style ?? ''}
        <th scope="col" class="text-right">
          <span class="lane-line {style}" class:border-dashed={looks[number]?.dashed}></span>
          <span class={style}>{lane.name}</span>
        </th>
      {/each}
    </tr>
  </thead>
  <tbody>
    {#each shown as [name, figure, interval] (name)}
      <tr>
        <th scope="row" class="font-medium whitespace-nowrap">{name}</th>
        {#each lanes as lane (lane.name)}
          <td class="text-right whitespace-nowrap">
            {figure(lane)}
            {#if interval?.(lane)}
              <span class="block text-xs" title="With 95 % confidence">{interval(lane)}</span>
            {/if}
          </td>
        {/each}
      </tr>
    {/each}
  </tbody>
</table>
