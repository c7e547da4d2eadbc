import { expect, it } from 'vitest';
import { damageOf, formsOf, groupsField, hexLines, imageAddress, shownValue } from '../src/lib/values';

const bytes = (text: string) => new TextEncoder().encode(text);

it.each([
  ['{"a":1}', 'application/json', ['JSON', 'text', 'bytes']],
  ['{"a":1}', 'text/plain', ['JSON', 'text', 'bytes']],
  ['{"a":', 'application/json', ['text', 'bytes']],
  ['calm sea', 'text/plain', ['text', 'bytes']],
])('%s as %s is shown as %j', (text, type, forms) => {
  expect(formsOf(bytes(text), type)).toEqual(forms);
});

it('bytes that are no text are shown as bytes', () => {
  const value = new Uint8Array([0xff, 0x00, 0x41]);
  expect(formsOf(value, 'application/json')).toEqual(['bytes']);
  expect(hexLines(value)).toBe(`000000  ff 00 41${' '.repeat(39)}  ··A`);
});

it('damaged JSON tells why', () => {
  expect(damageOf(bytes('{"a":'), 'application/problem+json')).not.toBe('');
  expect(damageOf(bytes('{"a":1}'), 'application/json')).toBe('');
  expect(damageOf(bytes('{"a":'), 'text/plain')).toBe('');
});

it('a large value is shown in parts', () => {
  const value = bytes(JSON.stringify({ sailings: Array.from({ length: 2_000 }, (_, n) => n) }));
  const part = shownValue(value, 'JSON', 100);
  expect([part.text.length, part.isWhole]).toEqual([100, false]);
  expect(part.text.startsWith('{\n  "sailings": [\n    0,')).toBe(true);
  expect(shownValue(value, 'JSON', 1_000_000).isWhole).toBe(true);
});

it('tags are quoted', () => {
  expect(groupsField(['boards', 'say "ahoy"', 'a\\b'])).toBe('"boards", "say \\"ahoy\\"", "a\\\\b"');
  expect(groupsField([])).toBe('');
});

it('images are shown as images, whatever else they are', () => {
  const dot = new Uint8Array([0x89, 0x50, 0x4e, 0x47]);
  expect(formsOf(dot, 'image/png')).toEqual(['image', 'bytes']);
  expect(formsOf(bytes('<svg/>'), 'image/svg+xml')).toEqual(['image', 'text', 'bytes']);
  expect(formsOf(new Uint8Array((4 << 20) + 1).fill(0xff), 'image/png')).toEqual(['bytes']);
  expect(formsOf(dot, 'image/tiff')).toEqual(['bytes']);
  expect(imageAddress(dot, 'image/png; x=1')).toBe('data:image/png;base64,iVBORw==');
});
