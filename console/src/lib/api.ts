/** The HTTP interface, with the shapes of its OpenAPI document. */
import type { components } from './openapi';

type Shapes = components['schemas'];
export type Session = Shapes['Session'];
export type LiveSample = Shapes['LiveSample'];
export type NamespaceSample = Shapes['NamespaceSample'];
export type LoadProfile = Shapes['LoadProfileSpec'];
export type LoadRun = Shapes['LoadRun'];
export type LaneFigures = Shapes['LaneFigures'];
export type Origin = Shapes['Origin'];
export type Waiting = Shapes['Waiting'];
export type WaitingLock = Shapes['WaitingLock'];
export type DrillSpec = Shapes['DrillSpec'];
export type DrillRun = Shapes['DrillRun'];
export type Node = Shapes['Node'];
type Problem = Shapes['Problem'];

/** A refusal of Verax, with its problem document. */
export class ApiError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
}

async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  const response = await fetch(path, {
    method,
    headers: {
      // Shows that the request comes from this page and not from a form elsewhere.
      'verax-console': '1',
      ...(body === undefined ? {} : { 'content-type': 'application/json' }),
    },
    body: body === undefined ? undefined : JSON.stringify(body),
  });
  if (!response.ok) {
    const unknown = { type: '', title: '', status: response.status, detail: response.statusText };
    throw new ApiError(await response.json().catch(() => unknown));
  }
  const text = await response.text();
  return (text ? JSON.parse(text) : undefined) as T;
}

export const api = {
  session: () => call<Session>('GET', '/v1/session'),
  signInByCode: (code: string) => call<Session>('POST', '/v1/session', { code }),
  signInByToken: (token: string) => call<Session>('POST', '/v1/session', { token }),
  signOut: () => call<void>('DELETE', '/v1/session'),
  nodes: async () => (await call<{ items: Node[] }>('GET', '/v1/nodes')).items,
  loadProfiles: async () =>
    (await call<{ items: LoadProfile[] }>('GET', '/v1/load-profiles')).items,
  loadRuns: async () => (await call<{ items: LoadRun[] }>('GET', '/v1/load-runs')).items,
  startLoadRun: (profile: string) => call<LoadRun>('POST', '/v1/load-runs', { profile }),
  drills: async () => (await call<{ items: DrillSpec[] }>('GET', '/v1/drills')).items,
  drillRuns: async () => (await call<{ items: DrillRun[] }>('GET', '/v1/drill-runs')).items,
  startDrill: (drill: string) => call<DrillRun>('POST', '/v1/drill-runs', { drill }),
  /** `namespace` is TENANT/NAMESPACE. */
  forceRelease: (namespace: string, lock: string) => {
    const [tenant, name] = namespace.split('/');
    const at = `/v1/tenants/${tenant}/namespaces/${name}/locks/${encodeURIComponent(lock)}`;
    return call<unknown>('DELETE', `${at}?force=true`);
  },
  stopLoadRun: (id: number) => call<void>('DELETE', `/v1/load-runs/${id}`),
};

/** The message of an error, for people. */
export function messageOf(error: unknown): string {
  if (error instanceof ApiError) return error.message;
  return 'Verax does not answer. Is it running?';
}
