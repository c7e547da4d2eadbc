/** What the charts of a drill show. */
import type { DrillRun } from './api';

type Side = DrillRun['sides'][number];

/** The end of the longest side, in seconds; never zero, so that a chart has a width. */
export function endOf(sides: Side[]): number {
  return Math.max(0.05, ...sides.flatMap((side) => side.ticks.map((tick) => tick.at_ms / 1000)));
}

/** The names of the series that are above zero at some moment, in order. */
export function seriesOf(sides: Side[]): string[] {
  const ticks = sides.flatMap((side) => side.ticks);
  const names = new Set(ticks.flatMap((tick) => Object.keys(tick.values)));
  return [...names].sort().filter((name) => ticks.some((tick) => (tick.values[name] ?? 0) > 0));
}

/**
 * One series of every side on a common axis. A side has values at its own moments alone; a chart
 * connects them. With `stepped`, a side that has ended keeps its last value up to the end.
 */
export function linesOf(sides: Side[], name: string, end: number, stepped: boolean) {
  const moments = sides.flatMap((side) => side.ticks.map((tick) => tick.at_ms / 1000));
  const x = [...new Set([...moments, end])].sort((a, b) => a - b);
  const values = sides.map((side) => {
    const own = new Map(side.ticks.map((tick) => [tick.at_ms / 1000, tick.values[name] ?? null]));
    const last = side.ticks.at(-1);
    if (stepped && last && side.figures.length > 0) own.set(end, last.values[name] ?? null);
    return x.map((moment) => own.get(moment) ?? null);
  });
  return { x, values };
}
