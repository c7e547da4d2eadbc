import type { Session } from './api';
import { LiveFeed } from './live-feed.svelte';
import * as rights from './rights';

/** Who is signed in, for every page. */
class Signed {
  session = $state<Session | null>(null);

  /** Whether the session is an administrator's. */
  get isAdmin(): boolean {
    return this.session !== null && rights.isAdmin(this.session);
  }

  /** Whether the session has a right in a tenant, or in one namespace of it. */
  may(right: rights.Right, tenant: string, namespace?: string): boolean {
    return this.session !== null && rights.may(this.session, right, tenant, namespace);
  }
}

export const signed = new Signed();

/** The live figures that several pages show. */
export const feed = new LiveFeed(() => (signed.session = null));
