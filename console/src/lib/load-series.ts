/** What the charts of a load run show. */
import type { LaneFigures, LoadRun, LoadTick } from './api';
import type { Line } from '../components/Chart.svelte';

export type Percentile = 'p50_ms' | 'p90_ms' | 'p99_ms' | 'p999_ms';

export const PERCENTILES: { key: Percentile; name: string }[] = [
  { key: 'p50_ms', name: 'p50' },
  { key: 'p90_ms', name: 'p90' },
  { key: 'p99_ms', name: 'p99' },
  { key: 'p999_ms', name: 'p99.9' },
];

/** A lane, as it looks wherever it appears. */
export interface LaneLook {
  name: string;
  color: string;
  /** The class of its text and of its line in legends. */
  style: string;
  dashed: boolean;
}

const FURTHER = ['--lane-third', '--lane-fourth', '--lane-fifth', '--lane-sixth'];

/** The first lane that reads a cache and the first that does not have the colors that they have
 * everywhere; further lanes have others. */
export function looksOf(run: LoadRun): LaneLook[] {
  const seen = new Set<string>();
  let further = 0;
  return (run.profile.lanes ?? []).map(({ name, reads }) => {
    const style = reads === 'cache' ? 'lane-cached' : 'lane-direct';
    if (!seen.has(style)) {
      seen.add(style);
      return { name, color: `--${style}`, style, dashed: reads !== 'cache' };
    }
    const color = FURTHER[further++ % FURTHER.length]!;
    return { name, color, style: color.slice(2), dashed: further % 2 === 1 };
  });
}

/** A figure of each lane, second by second. A lane that has no turn in a second has a gap. */
export function linesOf(
  looks: LaneLook[],
  ticks: LoadTick[],
  figure: (lane: LaneFigures) => number | null | undefined,
): Line[] {
  return looks.map(({ name, color, dashed }, lane) => ({
    label: name,
    color,
    dashed,
    values: ticks.map((tick) => {
      const figures = tick.lanes[lane];
      return figures ? (figure(figures) ?? null) : null;
    }),
  }));
}

/** The place of a percentile on an axis that gives each further nine the same room. */
export function placeOf(percentile: number): number {
  // A single slowest request has no tail, but a place.
  return Math.abs(Math.log10(Math.max(1 - percentile / 100, 1e-6)));
}

export const PERCENTILE_MARKS = [0, 1, 2, 3, 4];

export function writePercentile(place: number): string {
  const percentile = 100 * (1 - 10 ** -place);
  if (place < 0.05) return '0';
  return `p${Number(percentile.toPrecision(Math.max(2, Math.floor(place) + 1)))}`;
}

/** The latencies of all lanes on one percentile axis. */
export function curvesOf(run: LoadRun, looks: LaneLook[]): { x: number[]; lines: Line[] } {
  const lanes = run.report?.lanes ?? [];
  const curves = lanes.map((lane) => (lane.curve ?? []).map((p) => [placeOf(p.percentile), p.ms] as const));
  const x = [...new Set(curves.flat().map(([place]) => place))].sort((a, b) => a - b);
  const lines = lanes.map((lane, number) => {
    const curve = curves[number] ?? [];
    let next = 0;
    const values = x.map((place) => {
      while (next < curve.length - 1 && curve[next]![0] < place) next += 1;
      const point = curve[next];
      return point && point[0] >= place ? point[1] : null;
    });
    const look = looks[number];
    return { label: lane.name, color: look?.color ?? '--lane-third', dashed: look?.dashed ?? false, values };
  });
  return { x, lines };
}

/** The stages of a run on its time line. */
export function bandsOf(run: LoadRun): { from: number; to: number; text: string; muted: boolean }[] {
  const stages = run.report?.stages ?? [];
  if (stages.length < 2) return [];
  return stages.map((stage) => ({
    from: stage.from_seconds,
    to: stage.from_seconds + stage.seconds,
    text: stage.name,
    muted: stage.warm_up,
  }));
}

/** A run up to this length has all of its time line from the start, in seconds. */
const SHORT_RUN = 120;

/** How long a run takes, in seconds. */
export function lengthOf(run: LoadRun): number {
  const { profile } = run;
  const warmUp = profile.warm_up_seconds ?? 0;
  const stages = profile.stages ?? [];
  let length = warmUp + (profile.duration_seconds ?? 10);
  if (profile.steps) length = warmUp + profile.steps.levels.length * profile.steps.each_seconds;
  else if (stages.length > 0) length = warmUp + stages.reduce((sum, stage) => sum + stage.seconds, 0);
  return profile.order === 'one-after-another' ? length * (profile.lanes?.length ?? 1) : length;
}

/** The seconds that are drawn: those that a run has, and those that are to come; of a long run only a
 * few of these. */
export function spanOf(run: LoadRun): [number, number] {
  const [whole, measured] = [lengthOf(run), run.ticks?.at(-1)?.at_seconds ?? 0];
  if (run.state !== 'running' && measured > 0) return [0, measured];
  return [0, Math.max(measured, Math.min(whole, Math.max(SHORT_RUN, measured * 1.1)))];
}

/** The throughput by level, measured and as the scalability law has it. */
export function bendOf(run: LoadRun, looks: LaneLook[]): { x: number[]; lines: Line[] } {
  const stages = (run.report?.stages ?? []).filter((stage) => !stage.warm_up && !stage.ramp);
  const steps = stages.filter((stage, n) => stages.findIndex((s) => s.level === stage.level) === n);
  steps.sort((a, b) => a.level - b.level);
  const x = steps.map((stage) => stage.level);
  const lines: Line[] = [];
  looks.forEach((look, lane) => {
    lines.push({
      label: look.name,
      color: look.color,
      dashed: look.dashed,
      values: steps.map((stage) => stage.lanes[lane]?.per_second ?? null),
    });
    const law = run.report?.lanes[lane]?.bend?.law;
    if (!law) return;
    lines.push({
      label: `${look.name} by the law`,
      color: look.color,
      thin: true,
      values: x.map((n) => {
        const others = n - 1;
        return (law.of_one * n) / (1 + law.contention * others + law.coherency * n * others);
      }),
    });
  });
  return { x, lines };
}

/** What limits a lane, in words. */
export function limitOf(limit: string): string {
  switch (limit) {
    case 'errors':
      return 'errors limit it';
    case 'generator':
      return 'the generator limits it: use more workers';
    case 'saturated':
      return 'what it reads is saturated';
    default:
      return 'its limit was not reached';
  }
}

/** What a difference of two runs comes to, in words. */
export function verdictOf(verdict: string): string {
  switch (verdict) {
    case 'better':
      return 'better';
    case 'worse':
      return 'worse';
    case 'no-difference':
      return 'no difference shown';
    default:
      return 'too few seconds to tell';
  }
}

/** A figure of the lanes of two runs over each other, by the seconds since each started. */
export function overlaid(
  before: LoadRun,
  after: LoadRun,
  figure: (lane: LaneFigures) => number | null | undefined,
): { x: number[]; lines: Line[] } {
  const at = (tick: LoadTick) => Math.round(tick.at_seconds);
  const sides = [before, after].map((run) => new Map((run.ticks ?? []).map((tick) => [at(tick), tick])));
  const x = [...new Set(sides.flatMap((side) => [...side.keys()]))].sort((a, b) => a - b);
  const lines = [before, after].flatMap((run, side) =>
    looksOf(run).map(({ name, color, dashed }, lane) => ({
      label: `${name}, run ${run.id}`,
      color,
      dashed,
      thin: side === 0,
      values: x.map((second) => {
        const figures = sides[side]?.get(second)?.lanes[lane];
        return figures ? (figure(figures) ?? null) : null;
      }),
    })),
  );
  return { x, lines };
}
