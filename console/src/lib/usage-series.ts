/** The lines of usage over time. */
import type { UsageHistory, UsagePoint } from './api';

export interface Series {
  /** Seconds since the Unix epoch, one for each slot of the range. */
  x: number[];
  /** The value of each slot; `null` where nothing was counted. */
  of: (value: (point: UsagePoint) => number | null) => (number | null)[];
}

/** Every slot of the range, with gaps where the service did not run. */
export function usageSeries(history: UsageHistory): Series {
  const step = history.step_seconds;
  const first = Date.parse(history.from) / 1000;
  const last = Date.parse(history.to) / 1000;
  const points = new Map(history.items.map((item) => [Math.round(Date.parse(item.at) / 1000), item]));
  const x: number[] = [];
  for (let at = first; at < last; at += step) x.push(at);
  return {
    x,
    of: (value) =>
      x.map((at) => {
        const point = points.get(Math.round(at));
        return point ? value(point) : null;
      }),
  };
}

/** A count as a rate, by the time that was really counted. */
export function perSecond(count: (point: UsagePoint) => number): (point: UsagePoint) => number | null {
  return (point) => (point.covered_seconds > 0 ? count(point) / point.covered_seconds : null);
}
