/** Figures of namespaces over several samples. */
import type { LiveSample } from './api';

export interface NamespaceRow {
  path: string;
  readsPerSecond: number;
  hitRatio: number | null;
  hitP50: number | null;
  originPerSecond: number;
  originErrors: number;
  originP50: number | null;
  entries: number;
  bytes: number;
}

/** The middle of medians, each counted as often as it has samples. */
function middle(medians: { p50_ms: number; samples: number }[]): number | null {
  const sorted = [...medians].sort((a, b) => a.p50_ms - b.p50_ms);
  const all = sorted.reduce((sum, m) => sum + m.samples, 0);
  let seen = 0;
  for (const m of sorted) {
    seen += m.samples;
    if (seen * 2 >= all) return m.p50_ms;
  }
  return null;
}

/** One row for each namespace of the latest sample. */
export function average(samples: LiveSample[]): NamespaceRow[] {
  const latest = samples.at(-1);
  if (!latest) return [];
  const seconds = samples.reduce((sum, s) => sum + s.window_seconds, 0);
  return latest.namespaces.map((now) => {
    const parts = samples.flatMap((s) =>
      s.namespaces.filter((n) => n.tenant === now.tenant && n.name === now.name),
    );
    const sum = (figure: (n: (typeof parts)[number]) => number) =>
      parts.reduce((total, n) => total + figure(n), 0);
    const reads = sum((n) => n.reads);
    return {
      path: `${now.tenant}/${now.name}`,
      readsPerSecond: reads / seconds,
      hitRatio: reads > 0 ? sum((n) => n.hits) / reads : null,
      hitP50: middle(parts.flatMap((n) => n.hit_latency ?? [])),
      originPerSecond: sum((n) => n.origin_calls_per_second) / samples.length,
      originErrors: sum((n) => n.origin_errors),
      originP50: middle(parts.flatMap((n) => n.origin_latency ?? [])),
      entries: now.entries,
      bytes: now.bytes,
    };
  });
}
