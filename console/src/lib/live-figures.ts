/** Figures of one live sample. */
import type { LiveSample } from './api';

/** The sum of a figure over a sample's namespaces. */
export function total(
  sample: LiveSample,
  figure: (n: LiveSample['namespaces'][number]) => number,
): number {
  const others = sample.others ? figure(sample.others) : 0;
  return sample.namespaces.reduce((sum, n) => sum + figure(n), others);
}

/** The hit ratio of a sample, 0 to 1; null without reads. */
export function hitRatio(sample: LiveSample): number | null {
  const reads = total(sample, (n) => n.reads);
  return reads > 0 ? total(sample, (n) => n.hits) / reads : null;
}
