import { expect, it } from 'vitest';
import { isAdmin, may, type Right } from '../src/lib/rights';

const session = (...scopes: string[]) => ({ who: 'desk', scopes });

it.each<[string, Right, string, string | undefined, boolean]>([
  ['admin', 'manage', 'tideline', undefined, true],
  ['read:tideline', 'read', 'tideline', undefined, true],
  ['read:tideline', 'observe', 'tideline', 'tables', true],
  ['read:tideline/tables', 'read', 'tideline', 'tables', true],
  ['read:tideline/tables', 'read', 'tideline', 'other', false],
  ['read:tideline/tables', 'read', 'tideline', undefined, false],
  ['read:tideline', 'write', 'tideline', undefined, false],
  ['manage:tideline', 'read', 'tideline', 'tables', false],
  ['manage:tideline', 'invalidate', 'tideline', 'tables', true],
  ['write:tideline', 'lock', 'tideline', 'tables', true],
  ['write:tideline', 'invalidate', 'tideline', 'tables', false],
  ['read:tide', 'read', 'tideline', undefined, false],
])('%s allows %s in %s/%s: %s', (scope, right, tenant, namespace, allowed) => {
  expect(may(session(scope), right, tenant, namespace)).toBe(allowed);
});

it('only the scope admin makes an administrator', () => {
  expect(isAdmin(session('read:a', 'admin'))).toBe(true);
  expect(isAdmin(session('manage:admin'))).toBe(false);
});
