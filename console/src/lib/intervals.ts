/** The intervals of a policy as text: `tag:boards=30s, refresh prefix:board/=5m`. */
import type { Policy } from './api';
import { InvalidField, time, timeText } from './quantities';

type Interval = NonNullable<Policy['intervals']>[number];

/** One rule as text. */
function ruleText(rule: Interval): string {
  const what = rule.tag != null ? `tag:${rule.tag}` : rule.prefix != null ? `prefix:${rule.prefix}` : 'all';
  return `${rule.refresh ? 'refresh ' : ''}${what}=${timeText(rule.every_seconds)}`;
}

export function intervalsText(rules: Interval[]): string {
  return rules.map(ruleText).join(', ');
}

/** The rules that a text has; an empty text has none. */
export function intervals(text: string): Interval[] {
  const parts = text.split(',').map((part) => part.trim());
  return parts
    .filter((part) => part !== '')
    .map((part) => {
      const found = /^(refresh\s+)?(all|tag:(.+)|prefix:(.+))=([^=]+)$/.exec(part);
      if (!found) throw new InvalidField(`“${part}” cannot be read: write all=5m, tag:boards=30s or refresh prefix:board/=1h`);
      const [, refresh, , tag, prefix, every] = found;
      return {
        every_seconds: time(every ?? ''),
        refresh: refresh !== undefined,
        ...(tag === undefined ? {} : { tag }),
        ...(prefix === undefined ? {} : { prefix }),
      };
    });
}
