import { expect, it } from 'vitest';
import { sorted } from '../src/lib/sorted';

it('numbers sort as numbers, names as people expect, and nothing comes last', () => {
  const rows = [{ n: 10 }, { n: null }, { n: 9 }, { n: 200 }];
  expect(sorted(rows, (row) => row.n, false).map((row) => row.n)).toEqual([9, 10, 200, null]);
  expect(sorted(rows, (row) => row.n, true).map((row) => row.n)).toEqual([200, 10, 9, null]);
  const names = ['berth-10', 'berth-9', 'Alder'];
  expect(sorted(names, (name) => name, false)).toEqual(['Alder', 'berth-9', 'berth-10']);
  expect(sorted(names, undefined, true)).toBe(names);
});
