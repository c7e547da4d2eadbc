import { describe, expect, it } from 'vitest';
import type { DrillRun } from '../src/lib/api';
import { endOf, linesOf, seriesOf } from '../src/lib/drill-series';

type Side = DrillRun['sides'][number];

function side(name: string, values: [number, Record<string, number>][], done: boolean): Side {
  return {
    name,
    figures: done ? [{ name: 'errors', value: 0, unit: '' }] : [],
    ticks: values.map(([at_ms, values]) => ({ at_ms, values })),
    events: [],
  };
}

describe('the charts of a drill', () => {
  const off = side('off', [[0, { errors: 0, taken: 1 }], [200, { errors: 0, taken: 3 }]], true);
  const on = side('on', [[100, { errors: 0, taken: 2 }]], false);

  it('end with the longest side, and have a width before anything happens', () => {
    expect(endOf([off, on])).toBe(0.2);
    expect(endOf([])).toBe(0.05);
  });

  it('leave out what is zero all the time', () => {
    expect(seriesOf([off, on])).toEqual(['taken']);
  });

  it('have every side at its own moments', () => {
    const { x, values } = linesOf([off, on], 'taken', 0.2, false);
    expect(x).toEqual([0, 0.1, 0.2]);
    expect(values).toEqual([[1, null, 3], [null, 2, null]]);
  });

  it('keep the last count of a side that has ended', () => {
    const { values } = linesOf([off, on], 'taken', 0.4, true);
    expect(values).toEqual([[1, null, 3, 3], [null, 2, null, null]]);
  });
});
