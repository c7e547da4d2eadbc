import { describe, expect, it } from 'vitest';
import { merged } from '../src/lib/run-feed.svelte';

const run = (ticks: number[], first_tick: number, id = 1) => ({ id, state: 'running', ticks, first_tick });

describe('a run over its stream', () => {
  it('gets the ticks that are new behind those that came before', () => {
    expect(merged(run([1, 2], 0), run([3], 2)).ticks).toEqual([1, 2, 3]);
    // One that comes again replaces what it had.
    expect(merged(run([1, 2, 3], 0), run([4], 2)).ticks).toEqual([1, 2, 4]);
  });

  it('begins anew with all of them, and with another run', () => {
    expect(merged(run([1, 2], 0), run([5], 0)).ticks).toEqual([5]);
    expect(merged(run([1, 2], 0), run([3], 2, 7)).ticks).toEqual([3]);
    expect(merged(null, run([3], 2)).ticks).toEqual([3]);
  });
});
