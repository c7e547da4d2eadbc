import { describe, expect, it } from 'vitest';
import type { LoadRun } from '../src/lib/api';
import * as series from '../src/lib/load-series';

function run(profile: object, report: object | null = null): LoadRun {
  const lanes = [
    { name: 'cached', reads: 'cache' },
    { name: 'direct', reads: 'origin' },
  ];
  return { id: 1, state: 'done', ticks: [], report, profile: { lanes, ...profile } } as unknown as LoadRun;
}

describe('the lanes of a run', () => {
  it('keep their pair of colors, and further ones have others', () => {
    const lanes = [
      { name: 'old', reads: 'origin' },
      { name: 'cached', reads: 'cache' },
      { name: 'new', reads: 'origin' },
    ];
    const colors = series.looksOf(run({ lanes })).map((look) => look.color);
    expect(colors).toEqual(['--lane-direct', '--lane-cached', '--lane-third']);
  });

  it('have a gap where they have no figure', () => {
    const looks = series.looksOf(run({}));
    const ticks = [{ lanes: [{ p50_ms: 1 }, { p50_ms: null }] }] as never;
    const lines = series.linesOf(looks, ticks, (lane) => lane.p50_ms);
    expect(lines.map((line) => line.values)).toEqual([[1], [null]]);
  });
});

describe('the percentile axis', () => {
  it('gives each further nine the same room', () => {
    expect([0, 90, 99, 99.9].map((p) => Math.round(series.placeOf(p) * 1e6) / 1e6)).toEqual([0, 1, 2, 3]);
    expect(series.placeOf(100)).toBe(6);
    expect([0, 1, 2, 3, 4].map(series.writePercentile)).toEqual(['0', 'p90', 'p99', 'p99.9', 'p99.99']);
  });

  it('shows every lane up to its slowest request', () => {
    const curve = [{ percentile: 0, ms: 1 }, { percentile: 90, ms: 2 }];
    const report = { lanes: [{ name: 'cached', curve }, { name: 'direct', curve: [{ percentile: 0, ms: 5 }] }] };
    const shown = run({}, report);
    const { x, lines } = series.curvesOf(shown, series.looksOf(shown));
    expect(x.map(Math.round)).toEqual([0, 1]);
    expect(lines.map((line) => line.values)).toEqual([[1, 2], [5, null]]);
  });
});

describe('the length of a run', () => {
  it('counts its stages, its steps, or its one level', () => {
    expect(series.lengthOf(run({ warm_up_seconds: 2, duration_seconds: 10 }))).toBe(12);
    expect(series.lengthOf(run({ steps: { levels: [1, 2], each_seconds: 5 } }))).toBe(10);
    const stages = [{ seconds: 3 }, { seconds: 4 }];
    expect(series.lengthOf(run({ warm_up_seconds: 1, stages }))).toBe(8);
    expect(series.lengthOf(run({ duration_seconds: 5, order: 'one-after-another' }))).toBe(10);
  });
});

describe('the bend', () => {
  it('has the measured steps in order, once each, and the law beside them', () => {
    const stage = (level: number, per_second: number, more = {}) => ({
      level, warm_up: false, ramp: false, lanes: [{ per_second }, { per_second: 1 }], ...more,
    });
    const law = { of_one: 10, contention: 0, coherency: 0 };
    const report = {
      stages: [stage(1, 3, { warm_up: true }), stage(2, 20), stage(1, 10), stage(9, 9, { ramp: true }), stage(2, 19)],
      lanes: [{ name: 'cached', bend: { law } }, { name: 'direct' }],
    };
    const shown = run({}, report);
    const { x, lines } = series.bendOf(shown, series.looksOf(shown));
    expect(x).toEqual([1, 2]);
    expect(lines.map((line) => [line.label, line.values])).toEqual([
      ['cached', [10, 20]],
      ['cached by the law', [10, 20]],
      ['direct', [1, 1]],
    ]);
  });
});

describe('two runs over each other', () => {
  it('share their seconds, and have gaps where one has none', () => {
    const tick = (at_seconds: number, per_second: number) => ({ at_seconds, lanes: [{ per_second }, { per_second: 1 }] });
    const before = { ...run({}), id: 3, ticks: [tick(1.01, 10), tick(2, 20)] } as unknown as LoadRun;
    const after = { ...run({}), id: 4, ticks: [tick(2.02, 30)] } as unknown as LoadRun;
    const { x, lines } = series.overlaid(before, after, (lane) => lane.per_second);
    expect(x).toEqual([1, 2]);
    expect(lines.map((line) => [line.label, line.values, line.thin])).toEqual([
      ['cached, run 3', [10, 20], true],
      ['direct, run 3', [1, 1], true],
      ['cached, run 4', [null, 30], false],
      ['direct, run 4', [null, 1], false],
    ]);
  });
});

describe('the time line of a run', () => {
  const run = (seconds: number, at: number, state: string) =>
    ({ state, profile: { name: 'x', namespace: 'a/b', duration_seconds: seconds }, ticks: [{ at_seconds: at }] }) as unknown as LoadRun;

  it('is whole, but follows a long run that goes on', () => {
    expect(series.spanOf(run(60, 10, 'running'))).toEqual([0, 60]);
    expect(series.spanOf(run(3600, 10, 'running'))).toEqual([0, 120]);
    expect(series.spanOf(run(3600, 1000, 'running'))[1]).toBeCloseTo(1100);
    expect(series.spanOf(run(3600, 3590, 'running'))).toEqual([0, 3600]);
    expect(series.spanOf(run(3600, 100, 'stopped'))).toEqual([0, 100]);
  });
});
