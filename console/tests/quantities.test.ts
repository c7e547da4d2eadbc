import { expect, it } from 'vitest';
import { InvalidField, limit, size, sizeText, time, timeText, whole } from '../src/lib/quantities';

it.each([
  ['64 MiB', 64 * 1024 ** 2],
  ['512KiB', 512 * 1024],
  ['1.5 GiB', 1.5 * 1024 ** 3],
  ['1_000', 1_000],
  ['0', 0],
])('the size %s is %i bytes', (text, bytes) => expect(size(text)).toBe(bytes));

it.each([
  ['90', 90],
  ['5m', 300],
  ['1 h', 3_600],
  ['250ms', 0.25],
  ['7d', 604_800],
])('the time %s is %d seconds', (text, seconds) => expect(time(text)).toBe(seconds));

it.each(['', 'much', '-1', '5 parsecs', '1e9', '0x10'])('%s is refused in words', (text) => {
  for (const of of [size, time, whole]) expect(() => of(text)).toThrow(InvalidField);
});

it('a whole number has no fraction, and nothing is no limit', () => {
  expect(whole('1,000')).toBe(1_000);
  expect(() => whole('1.5')).toThrow('whole number');
  expect(limit(' ', whole)).toBeNull();
  expect(limit('5', whole)).toBe(5);
});

it('what a form shows is read as the same number', () => {
  for (const bytes of [0, 1, 1_023, 1_024, 3 * 1024 ** 2, 5 * 1024 ** 3, 1_000_000]) {
    expect(size(sizeText(bytes))).toBe(bytes);
  }
  for (const seconds of [0, 0.5, 1, 59, 60, 90, 3_600, 86_400, 90_000]) {
    expect(time(timeText(seconds))).toBe(seconds);
  }
  expect(sizeText(null)).toBe('');
});
