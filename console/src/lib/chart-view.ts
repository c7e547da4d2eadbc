/** What a chart shows of its values: under the pointer, by keyboard, and when zoomed. */

interface Values {
  label: string;
  values: (number | null)[];
}

/** The values at a place, in words. */
export function readout(
  x: number[],
  lines: Values[],
  at: number,
  place: (x: number) => string,
  write: (value: number) => string,
): string {
  const where = x[at];
  if (where === undefined) return '';
  const values = lines.map(({ label, values }) => {
    const value = values[at];
    return `${label} ${value === null || value === undefined ? '–' : write(value)}`;
  });
  return [place(where), ...values].join(' · ');
}

/** The place that a key moves to; `null` if it does not move. */
export function moved(key: string, at: number | null, length: number): number | null {
  if (length === 0) return null;
  const last = length - 1;
  switch (key) {
    case 'ArrowLeft':
      return at === null ? last : Math.max(at - 1, 0);
    case 'ArrowRight':
      return at === null ? 0 : Math.min(at + 1, last);
    case 'Home':
      return 0;
    case 'End':
      return last;
    default:
      return null;
  }
}

/** The range that a key zooms to, `null` for all; `undefined` if it does not zoom. */
export function zoomed(
  key: string,
  zoom: [number, number] | null,
  x: number[],
  at: number | null,
): [number, number] | null | undefined {
  const [first, last] = [x[0], x.at(-1)];
  if (first === undefined || last === undefined || last <= first) return undefined;
  const [low, high] = zoom ?? [first, last];
  const middle = (at === null ? undefined : x[at]) ?? (low + high) / 2;
  switch (key) {
    case '+':
    case '=':
      return [Math.max(middle - (high - low) / 4, first), Math.min(middle + (high - low) / 4, last)];
    case '-': {
      const wide: [number, number] = [middle - (high - low), middle + (high - low)];
      return wide[0] <= first && wide[1] >= last ? null : [Math.max(wide[0], first), Math.min(wide[1], last)];
    }
    case 'Escape':
      return null;
    default:
      return undefined;
  }
}
