import { expect, it } from 'vitest';
import { overview, pageOf, pages, tenants } from '../src/lib/pages';

it('every page has a path, a name and a question of its own', () => {
  for (const part of ['path', 'name', 'question'] as const) {
    expect(new Set(pages.map((page) => page[part])).size).toBe(pages.length);
  }
  expect(pages.every((page) => page.question.endsWith('?'))).toBe(true);
});

it('a path belongs to the page above it, and an unknown one to none', () => {
  expect(pageOf('/load')?.name).toBe('Load');
  expect(pageOf('/')).toBe(overview);
  expect(pageOf('/tenants/ferrydesk/boards')).toBe(tenants);
  expect(pageOf('/nowhere')).toBeUndefined();
  expect(pageOf('/tenantsandmore')).toBeUndefined();
});
