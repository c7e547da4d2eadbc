import { describe, expect, it } from 'vitest';
import { moved, readout, zoomed } from '../src/lib/chart-view';

describe('a chart', () => {
  const x = [0, 10, 20, 30];
  const lines = [
    { label: 'reads', values: [1, 2, null, 4] },
    { label: 'origin calls', values: [0, 0, 1, 1] },
  ];
  const show = (at: number) => readout(x, lines, at, (s) => `${s} s`, (v) => `${v}/s`);

  it('tells the values at a place', () => {
    expect(show(1)).toBe('10 s · reads 2/s · origin calls 0/s');
    expect(show(2)).toBe('20 s · reads – · origin calls 1/s');
    expect(show(9)).toBe('');
  });

  it('moves by keyboard and stays within its values', () => {
    expect(moved('ArrowRight', null, 4)).toBe(0);
    expect(moved('ArrowLeft', null, 4)).toBe(3);
    expect(moved('ArrowRight', 3, 4)).toBe(3);
    expect(moved('ArrowLeft', 0, 4)).toBe(0);
    expect(moved('Home', 2, 4)).toBe(0);
    expect(moved('End', 2, 4)).toBe(3);
    expect(moved('a', 2, 4)).toBeNull();
    expect(moved('End', null, 0)).toBeNull();
  });

  it('zooms around a place and back to all', () => {
    expect(zoomed('+', null, x, 1)).toEqual([2.5, 17.5]);
    expect(zoomed('+', null, x, null)).toEqual([7.5, 22.5]);
    expect(zoomed('+', null, x, 0)).toEqual([0, 7.5]);
    expect(zoomed('-', [7.5, 22.5], x, null)).toBeNull();
    expect(zoomed('-', [14, 16], x, null)).toEqual([13, 17]);
    expect(zoomed('Escape', [14, 16], x, null)).toBeNull();
    expect(zoomed('x', [14, 16], x, null)).toBeUndefined();
    expect(zoomed('+', null, [], null)).toBeUndefined();
  });
});
