import { expect, it } from 'vitest';
import * as format from '../src/lib/format';

it.each([
  [0.0614, '0.061 ms'],
  [1.234, '1.23 ms'],
  [57.32, '57.3 ms'],
  [999.4, '999 ms'],
  [1204, '1,204 ms'],
  [null, '–'],
])('milliseconds have three significant digits: %s', (value, text) => {
  expect(format.milliseconds(value)).toBe(text);
});

it.each([
  [0, '0 B'],
  [1023, '1023 B'],
  [1024, '1.0 KiB'],
  [5 * 1024 ** 3, '5.0 GiB'],
])('bytes have binary units: %s', (value, text) => {
  expect(format.bytes(value)).toBe(text);
});

it.each([
  [59, '59 s'],
  [60, '1 min 0 s'],
  [3600, '1 h 0 min'],
  [90_000, '1 d 1 h'],
])('times have their two largest units: %s', (value, text) => {
  expect(format.time(value)).toBe(text);
});

it('small rates and speedups keep a decimal', () => {
  expect([format.rate(4.2), format.rate(3120)]).toEqual(['4.2/s', '3,120/s']);
  expect([format.times(3.14), format.times(94.2)]).toEqual(['3.1×', '94×']);
  expect(format.share(0.998)).toBe('99.8 %');
});
