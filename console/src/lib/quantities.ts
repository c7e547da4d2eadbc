/** Sizes, lengths of time and numbers as people write them in forms. */

const SIZES: Record<string, number> = { '': 1, b: 1, kib: 1024, mib: 1024 ** 2, gib: 1024 ** 3, tib: 1024 ** 4 };
const TIMES: Record<string, number> = { '': 1, ms: 0.001, s: 1, m: 60, min: 60, h: 3600, d: 86_400 };

/** What was wrong with a field, for people. */
export class InvalidField extends Error {}

function read(text: string, units: Record<string, number>, example: string): number {
  const match = /^([0-9][0-9_,]*(?:\.[0-9]+)?)\s*([a-z]*)$/i.exec(text.trim());
  const [, number = '', name = ''] = match ?? [];
  const unit = units[name.toLowerCase()];
  if (!match || unit === undefined) throw new InvalidField(`“${text}” cannot be read: write ${example}`);
  return Number(number.replace(/[_,]/g, '')) * unit;
}

/** Bytes: `64 MiB`, `512KiB` or `1000`. */
export function size(text: string): number {
  return Math.round(read(text, SIZES, '512 KiB or 64 MiB'));
}

/** The longest max-age that there is, ten years, which is written out. */
const UNLIMITED = 3650 * 86_400;

/** Seconds: `30s`, `5m`, `1h`, `7d`, `90` or `unlimited`. */
export function time(text: string): number {
  if (text.trim() === 'unlimited') return UNLIMITED;
  return read(text, TIMES, '30s, 5m, 1h or 7d');
}

/** A whole number of 0 or more. */
export function whole(text: string): number {
  const number = read(text, { '': 1 }, 'a whole number');
  if (!Number.isInteger(number)) throw new InvalidField(`“${text}” is not a whole number`);
  return number;
}

/** Reads a limit: nothing is `null`, no limit. */
export function limit(text: string, of: (text: string) => number): number | null {
  return text.trim() === '' ? null : of(text);
}

/** Bytes as a form shows them: the largest unit in which they are whole. */
export function sizeText(bytes: number | null | undefined): string {
  if (bytes === null || bytes === undefined) return '';
  for (const [unit, factor] of [['GiB', 1024 ** 3], ['MiB', 1024 ** 2], ['KiB', 1024]] as const) {
    if (bytes > 0 && bytes % factor === 0) return `${bytes / factor} ${unit}`;
  }
  return String(bytes);
}

/** Seconds as a form shows them: the largest unit in which they are whole. */
export function timeText(seconds: number): string {
  if (seconds >= UNLIMITED) return 'unlimited';
  for (const [unit, factor] of [['d', 86_400], ['h', 3600], ['m', 60]] as const) {
    if (seconds > 0 && seconds % factor === 0) return `${seconds / factor}${unit}`;
  }
  return `${seconds}s`;
}
