/** Rows in the order of one of their values; those without one come last, whichever the direction. */
export function sorted<Row>(
  rows: Row[],
  value: ((row: Row) => string | number | null | undefined) | undefined,
  descending: boolean,
): Row[] {
  if (!value) return rows;
  const names = new Intl.Collator('en', { numeric: true });
  return [...rows].sort((one, other) => {
    const [a, b] = [value(one), value(other)];
    if (a === null || a === undefined) return b === null || b === undefined ? 0 : 1;
    if (b === null || b === undefined) return -1;
    const order = typeof a === 'number' && typeof b === 'number' ? a - b : names.compare(`${a}`, `${b}`);
    return descending ? -order : order;
  });
}
