import { describe, expect, it } from 'vitest';
import { perSecond, usageSeries } from '../src/lib/usage-series';
import type { UsageHistory, UsagePoint } from '../src/lib/api';

function point(at: string, reads: number, covered = 10): UsagePoint {
  const none = { hits: 0, received_bytes: 0, sent_bytes: 0, origin_reads: 0, origin_saved_seconds: 0 };
  const gone = { evictions: 0, expirations: 0, refusals: 0 };
  return { at, covered_seconds: covered, entries: 1, bytes: 2, reads, ...none, ...gone };
}

describe('usage over time', () => {
  const history: UsageHistory = {
    from: '2026-11-26T07:00:00Z',
    to: '2026-11-26T07:00:45Z',
    step_seconds: 10,
    items: [point('2026-11-26T07:00:10Z', 20), point('2026-11-26T07:00:30Z', 10, 5)],
  };

  it('has a place for every slot, and a gap where nothing was counted', () => {
    const series = usageSeries(history);
    expect(series.x.length).toBe(5);
    expect(series.of((p) => p.reads)).toEqual([null, 20, null, 10, null]);
  });

  it('counts rates by the time that was covered', () => {
    const series = usageSeries(history);
    expect(series.of(perSecond((p) => p.reads))).toEqual([null, 2, null, 2, null]);
    expect(perSecond((p) => p.reads)(point('2026-11-26T07:00:30Z', 10, 0))).toBeNull();
  });
});
