<script lang="ts">
  import { Play } from '@lucide/svelte';
  import { onMount } from 'svelte';
  import { api, messageOf, type DrillRun, type DrillSpec } from '../lib/api';
  import * as format from '../lib/format';
  import { endOf, linesOf, seriesOf } from '../lib/drill-series';
  import { drills } from '../lib/pages';
  import { RunFeed } from '../lib/run-feed.svelte';
  import Heading from '../components/Heading.svelte';
  import Chart from '../components/Chart.svelte';

  const current = new RunFeed<DrillRun>('/v1/drill-runs', api.startDrill);
  let specs = $state<DrillSpec[]>([]);
  let asked = $state(false);
  let problem = $state('');

  onMount(() => {
    void (async () => {
      try {
        specs = await api.drills();
        const latest: DrillRun | undefined = (await api.drillRuns())[0];
        if (latest) current.follow(latest);
      } catch (error) {
        problem = messageOf(error);
      }
      asked = true;
    })();
    return () => current.stopFollowing();
  });

  const run = $derived(current.run);
  const sides = $derived(run?.sides ?? []);
  const end = $derived(endOf(sides));
  // These drills count events, so their lines are steps.
  const stepped = $derived(['allocation', 'old-data'].includes(run?.drill.name ?? ''));
  const series = $derived(seriesOf(sides));
  // The side without the guarantee comes first, as in the tables.
  const styles = [
    { color: '--lane-direct', dashed: true },
    { color: '--lane-cached', dashed: false },
    { color: '--color-base-content', dashed: false },
  ];

  const names: Record<string, string> = {
    stampede: 'Stampede',
    allocation: 'Allocation race',
    'old-data': 'Old data',
    outage: 'Outage',
    'warm-up': 'Warm-up',
    deployment: 'Deployment',
    'noisy-neighbor': 'Noisy neighbor',
  };

  function lines(name: string) {
    const { x, values } = linesOf(sides, name, end, stepped);
    const styled = sides.map((side, at) => ({
      label: side.name,
      values: values[at]!,
      ...styles[at % styles.length]!,
    }));
    return { x, lines: styled };
  }

  function figure(value: number, unit: string): string {
    if (unit === 'ms') return format.milliseconds(value);
    return unit ? `${format.count(value)} ${unit}` : format.count(value);
  }
</script>

{#if run?.conclusion}
  <Heading question={drills.question} answer="Shown">{run.conclusion}</Heading>
{:else if current.running}
  <Heading question={drills.question} answer="…">{run?.drill.about ?? 'Starting.'}</Heading>
{:else}
  <Heading question={drills.question} answer="Try it">
    A drill does the same thing with and without one guarantee, on the demo's data.
  </Heading>
{/if}

<div class="flex flex-wrap items-center gap-3 border-y border-base-300 py-3">
  {#each specs as spec (spec.name)}
    <button
      class="btn {run?.drill.name === spec.name ? 'btn-primary' : 'btn-outline'}"
      onclick={() => current.start(spec.name)}
      disabled={current.running}
      title="{spec.title} {spec.about}"
    >
      <Play size={16} />
      {names[spec.name] ?? spec.name}
    </button>
  {/each}
  {#if asked && specs.length === 0 && !problem}
    <p class="text-sm">No drills here: start the demo with <code>verax demo</code>.</p>
  {/if}
  {#if run}
    <p class="ml-auto text-sm" aria-live="polite" data-drill-state={run.state}>
      {run.drill.name}: <strong>{run.state}</strong>
    </p>
  {/if}
</div>
{#if current.error || problem || run?.reason}
  <p class="mt-2 font-medium text-error" role="alert">{current.error || problem || run?.reason}</p>
{/if}

{#if run}
  <div class="mt-3 flex flex-wrap items-baseline gap-x-6 gap-y-1">
    <h2 class="text-lg font-semibold">{run.drill.title}</h2>
    {#each sides as side, at (side.name)}
      {@const style = styles[at % styles.length]!}
      <span class="flex items-center gap-2 text-sm">
        <svg width="28" height="4" aria-hidden="true">
          <line
            x1="0" y1="2" x2="28" y2="2" stroke-width="3"
            stroke="var({style.color})" stroke-dasharray={style.dashed ? '7 5' : undefined}
          />
        </svg>
        {side.name}
      </span>
    {/each}
  </div>
  <div class="mt-3 grid gap-6 lg:grid-cols-[1fr_1fr]">
    {#each series.slice(0, 4) as name (name)}
      {@const drawn = lines(name)}
      <section aria-label={name}>
        <h3 class="font-semibold first-letter:uppercase">{name}</h3>
        <Chart
          summary="{name}, {sides.map((s) => s.name).join(' against ')}"
          x={drawn.x}
          lines={drawn.lines}
          height={series.length > 2 ? 120 : 180}
          write={(v) => (Number.isInteger(v) ? format.count(v) : v.toFixed(1))}
          span={[0, end]}
          live={run?.state === 'running'}
          {stepped}
        />
      </section>
    {/each}
  </div>
  <div class="mt-4 grid gap-8 lg:grid-cols-[auto_1fr]">
    <section aria-label="Figures">
      <table class="table table-xs text-sm">
        <thead>
          <tr class="text-base-content">
            <th scope="col">Result</th>
            {#each sides as side (side.name)}<th scope="col" class="text-right">{side.name}</th>{/each}
          </tr>
        </thead>
        <tbody>
          {#each sides[0]?.figures ?? [] as first, row (first.name)}
            <tr>
              <th scope="row" class="font-normal">{first.name}</th>
              {#each sides as side (side.name)}
                {@const cell = side.figures[row]}
                <td class="text-right font-semibold">{cell ? figure(cell.value, cell.unit) : '…'}</td>
              {/each}
            </tr>
          {/each}
        </tbody>
      </table>
    </section>
    <div class="grid gap-6" style="grid-template-columns: repeat({Math.max(1, sides.length)}, minmax(0, 1fr))">
      {#each sides as side (side.name)}
        <section aria-label="Events: {side.name}">
          <h3 class="border-b border-base-300 pb-1 text-sm font-semibold">{side.name}</h3>
          <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
          <ol class="max-h-60 overflow-y-auto text-sm" tabindex="0">
            {#each side.events as event, at (at)}
              <li class="py-0.5">
                <span class="tabular-nums">{format.count(event.at_ms)} ms</span>
                <strong>{event.who}</strong> {event.what}
              </li>
            {/each}
          </ol>
        </section>
      {/each}
    </div>
  </div>
{/if}
