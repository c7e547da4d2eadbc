/** What a session may do, by its scopes. The service decides; the console only offers what it allows. */
import type { Session } from './api';

export const RIGHTS = ['read', 'write', 'invalidate', 'lock', 'warm', 'load', 'observe', 'manage'] as const;
export type Right = (typeof RIGHTS)[number];

/** The rights that a right gives besides itself. */
const GIVES: Partial<Record<Right, Right[]>> = {
  read: ['observe'],
  write: ['lock'],
  manage: ['invalidate', 'warm', 'load', 'observe'],
};

export function isAdmin(session: Session): boolean {
  return session.scopes.includes('admin');
}

/** Whether a session has a right in a tenant, or in one namespace of it. */
export function may(session: Session, right: Right, tenant: string, namespace?: string): boolean {
  return session.scopes.some((scope) => {
    if (scope === 'admin') return true;
    const [held, place = ''] = scope.split(':') as [Right, string];
    const [of, within] = place.split('/');
    const covers = held === right || (GIVES[held] ?? []).includes(right);
    return covers && of === tenant && (within === undefined || within === namespace);
  });
}
