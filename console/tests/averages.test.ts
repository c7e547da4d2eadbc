import { describe, expect, it } from 'vitest';
import type { LiveSample, NamespaceSample } from '../src/lib/api';
import { average } from '../src/lib/averages';
import { hitRatio, total } from '../src/lib/live-figures';

function namespace(name: string, reads: number, hits: number, p50?: number): NamespaceSample {
  return {
    tenant: 'ferrydesk',
    name,
    reads,
    reads_per_second: reads,
    hits,
    hit_ratio: reads > 0 ? hits / reads : null,
    hit_latency: p50 === undefined ? undefined : { samples: hits, p50_ms: p50, p99_ms: p50 },
    origin_calls_per_second: reads - hits,
    origin_errors: 0,
    evicted: 0,
    entries: 10,
    bytes: 100,
  } as unknown as NamespaceSample;
}

function sample(...namespaces: NamespaceSample[]): LiveSample {
  return { at: '2026-11-25T08:00:00Z', window_seconds: 1, namespaces } as unknown as LiveSample;
}

describe('average', () => {
  it('has no rows without samples', () => {
    expect(average([])).toEqual([]);
  });

  it('weighs the hit ratio by reads, and not by seconds', () => {
    const rows = average([sample(namespace('boards', 1, 0)), sample(namespace('boards', 99, 99))]);
    expect(rows).toHaveLength(1);
    expect(rows[0]).toMatchObject({ path: 'ferrydesk/boards', readsPerSecond: 50, hitRatio: 0.99 });
  });

  it('says nothing about a namespace without reads', () => {
    expect(average([sample(namespace('fares', 0, 0))])[0]?.hitRatio).toBeNull();
  });

  it('takes the median of medians by their samples', () => {
    const samples = [1, 1, 1].map((p50) => sample(namespace('boards', 10, 10, p50)));
    samples.push(sample(namespace('boards', 100, 100, 9)));
    expect(average(samples)[0]?.hitP50).toBe(9);
  });

  it('shows the namespaces of the latest sample alone', () => {
    const rows = average([sample(namespace('gone', 5, 5)), sample(namespace('boards', 5, 5))]);
    expect(rows.map((row) => row.path)).toEqual(['ferrydesk/boards']);
  });
});

describe('figures of a sample', () => {
  it('counts the other namespaces too', () => {
    const one = { ...sample(namespace('boards', 4, 2)), others: namespace('', 6, 6) } as LiveSample;
    expect(total(one, (n) => n.reads)).toBe(10);
    expect(hitRatio(one)).toBe(0.8);
    expect(hitRatio(sample(namespace('boards', 0, 0)))).toBeNull();
  });
});
