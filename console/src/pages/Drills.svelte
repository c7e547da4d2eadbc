<script lang="ts">
  import { Play } from '@lucide/svelte';
  import { onMount } from 'svelte';
  import { api, words, type DrillRun, type DrillSpec } from '../lib/api';
  import * as figures from '../lib/figures';
  import { RunFeed } from '../lib/run-feed.svelte';
  import Answer from '../parts/Answer.svelte';
  import Chart from '../parts/Chart.svelte';

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
        problem = words(error);
      }
      asked = true;
    })();
    return () => current.stopFollowing();
  });

  const run = $derived(current.run);
  const sides = $derived(run?.sides ?? []);
  const end = $derived(Math.max(0.05, ...sides.flatMap((s) => s.ticks.map((t) => t.at_ms / 1000))));
  // What these count stays as it is until it changes.
  const stepped = $derived(['allocation', 'old-data'].includes(run?.drill.name ?? ''));
  const series = $derived(
    [...new Set(sides.flatMap((s) => s.ticks.flatMap((t) => Object.keys(t.values))))]
      .sort()
      .filter((name) => sides.some((s) => s.ticks.some((t) => (t.values[name] ?? 0) > 0))),
  );
  // Without the guarantee first, as in the tables; the same pair of styles in every drill.
  const styles = [
    { colour: '--lane-direct', dashed: true },
    { colour: '--lane-cached', dashed: false },
    { colour: '--color-base-content', dashed: false },
  ];

  const names: Record<string, string> = {
    stampede: 'Stampede',
    allocation: 'Allocation race',
    'old-data': 'Old data',
    outage: 'Outage',
  };

  /** All moments of all sides, and what each side had at its own; between them a line is drawn. */
  function lines(name: string) {
    const moments = sides.flatMap((s) => s.ticks.map((t) => t.at_ms / 1000));
    const x = [...new Set([...moments, end])].sort((a, b) => a - b);
    return {
      x,
      lines: sides.map((side, at) => {
        const own = new Map(side.ticks.map((t) => [t.at_ms / 1000, t.values[name] ?? null]));
        // A side that is over keeps what it came to.
        const last = side.ticks.at(-1);
        if (stepped && last && side.figures.length > 0) own.set(end, last.values[name] ?? null);
        const values = x.map((moment) => own.get(moment) ?? null);
        return { label: side.name, values, ...styles[at % styles.length]! };
      }),
    };
  }

  function figure(value: number, unit: string): string {
    if (unit === 'ms') return figures.milliseconds(value);
    return unit ? `${figures.count(value)} ${unit}` : figures.count(value);
  }
</script>

<svelte:head><title>What does it guarantee? · Verax</title></svelte:head>

{#if run?.conclusion}
  <Answer short="Shown">{run.conclusion}</Answer>
{:else if current.running}
  <Answer short="…">{run?.drill.about ?? 'The drill begins.'}</Answer>
{:else}
  <Answer short="See for yourself">
    A drill does the same thing with and without one guarantee, over the demo's real data.
  </Answer>
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
    <p class="text-sm">There are no drills here: they run on the demo, <code>verax demo</code>.</p>
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
            stroke="var({style.colour})" stroke-dasharray={style.dashed ? '7 5' : undefined}
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
          write={(v) => (Number.isInteger(v) ? figures.count(v) : v.toFixed(1))}
          span={[0, end]}
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
            <th scope="col">What was counted</th>
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
        <section aria-label="What happened: {side.name}">
          <h3 class="border-b border-base-300 pb-1 text-sm font-semibold">{side.name}</h3>
          <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
          <ol class="max-h-60 overflow-y-auto text-sm" tabindex="0">
            {#each side.events as event, at (at)}
              <li class="py-0.5">
                <span class="tabular-nums">{figures.count(event.at_ms)} ms</span>
                <strong>{event.who}</strong> {event.what}
              </li>
            {/each}
          </ol>
        </section>
      {/each}
    </div>
  </div>
{/if}
