import { expect, it } from 'vitest';
import { overview, pageOf, pages } from '../src/lib/pages';

it('every page has a path, a name and a question of its own', () => {
  for (const part of ['path', 'name', 'question'] as const) {
    expect(new Set(pages.map((page) => page[part])).size).toBe(pages.length);
  }
  expect(pages.every((page) => page.question.endsWith('?'))).toBe(true);
});

it('an unknown path shows the overview', () => {
  expect(pageOf('/load').name).toBe('Load');
  expect(pageOf('/nowhere')).toBe(overview);
});
