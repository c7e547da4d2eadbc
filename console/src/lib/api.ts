/** The HTTP interface, with the shapes of its OpenAPI document. */
import type { components } from './openapi';
import { InvalidField } from './quantities';

type Shapes = components['schemas'];
export type Session = Shapes['Session'];
export type LiveSample = Shapes['LiveSample'];
export type NamespaceSample = Shapes['NamespaceSample'];
export type LoadProfile = Shapes['LoadProfileSpec'];
export type LoadRun = Shapes['LoadRun'];
export type LoadTick = Shapes['LoadTick'];
export type OfferedProfile = Shapes['OfferedProfile'];
export type RunComparison = Shapes['RunComparison'];
export type StandIn = Shapes['StandIn'];
export type LaneFigures = Shapes['LaneFigures'];
export type Origin = Shapes['Origin'];
export type Waiting = Shapes['Waiting'];
export type WaitingLock = Shapes['WaitingLock'];
export type DrillSpec = Shapes['DrillSpec'];
export type DrillRun = Shapes['DrillRun'];
export type Node = Shapes['Node'];
export type Tenant = Shapes['Tenant'];
export type TenantQuota = Shapes['TenantQuota'];
export type TenantQuotaChange = Shapes['TenantQuotaChange'];
export type Namespace = Shapes['Namespace'];
export type Policy = Shapes['Policy'];
export type PolicyChange = Shapes['PolicyChange'];
export type EntrySummary = Shapes['EntrySummary'];
export type EntryPage = Shapes['EntryPage'];
export type SearchStep = Shapes['SearchStep'];
export type CheckStep = Shapes['CheckStep'];
export type DamageReports = Shapes['DamageReports'];
export type UsageHistory = Shapes['UsageHistory'];
export type UsagePoint = Shapes['UsagePoint'];
export type LifetimeAdvice = Shapes['LifetimeAdvice'];
export type MemoryCurve = Shapes['MemoryCurve'];
export type MemoryDivision = Shapes['MemoryDivision'];
export type DividedNamespace = Shapes['DividedNamespace'];
export type HotKeys = Shapes['HotKeys'];
export type HotKey = Shapes['HotKey'];
export type WarmPlan = Shapes['WarmPlan'];
export type WarmPlanSpec = Shapes['WarmPlanSpec'];
export type WarmRun = Shapes['WarmRun'];
export type WarmEstimate = Shapes['WarmEstimate'];
export type KeySource = Shapes['KeySource'];
export type Schedule = Shapes['Schedule'];
export type ScheduleSpec = Shapes['ScheduleSpec'];
export type ScheduleTiming = Shapes['ScheduleTiming'];
export type ScheduleSlot = Shapes['ScheduleSlot'];
export type JoinedWorker = Shapes['JoinedWorker'];
export type TrafficRecording = Shapes['TrafficRecording'];
export type RefillEvent = Shapes['RefillEvent'];
export type ActivityItem = Shapes['ActivityItem'];
export type Token = Shapes['Token'];
export type LiveSession = Shapes['LiveSession'];
type Problem = Shapes['Problem'];

/** A refusal of Verax, with its problem document. */
export class ApiError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
}

async function send(method: string, path: string, headers: HeadersInit = {}, body?: BodyInit) {
  // Shows that the request comes from this page and not from a form elsewhere.
  const response = await fetch(path, { method, headers: { 'verax-console': '1', ...headers }, body });
  if (!response.ok) {
    const unknown = { type: '', title: '', status: response.status, detail: response.statusText };
    throw new ApiError(await response.json().catch(() => unknown));
  }
  return response;
}

/** A response with the entity tag of its version, which a later change names. */
export interface Versioned<T> {
  value: T;
  tag: string;
}

async function versioned<T>(
  method: string,
  path: string,
  body?: unknown,
  tag?: string,
): Promise<Versioned<T>> {
  const headers = {
    ...(body === undefined ? {} : { 'content-type': 'application/json' }),
    ...(tag ? { 'if-match': tag } : {}),
  };
  const response = await send(method, path, headers, body === undefined ? undefined : JSON.stringify(body));
  const text = await response.text();
  return { value: (text ? JSON.parse(text) : undefined) as T, tag: response.headers.get('etag') ?? '' };
}

async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  return (await versioned<T>(method, path, body)).value;
}

/** Creates a definition, or replaces the version with a tag. */
async function define<T>(path: string, spec: unknown, tag: string): Promise<T> {
  const condition: HeadersInit = tag ? { 'if-match': tag } : { 'if-none-match': '*' };
  const headers = { 'content-type': 'application/json', ...condition };
  const response = await send('PUT', path, headers, JSON.stringify(spec));
  return (await response.json()) as T;
}

/** The path of a namespace. */
function place(tenant: string, namespace: string): string {
  return `/v1/tenants/${tenant}/namespaces/${namespace}`;
}

/** An entry with its value. */
export interface StoredEntry {
  value: Uint8Array<ArrayBuffer>;
  mediaType: string;
  tag: string;
  tags: string;
  age: number;
  /** The seconds until it is stale; `null` if it already is. */
  timeLeft: number | null;
}

/** Reads an entry from the cache alone; `null` when it is not there. */
async function entry(tenant: string, namespace: string, key: string): Promise<StoredEntry | null> {
  const path = `${place(tenant, namespace)}/entries/${encodeURIComponent(key)}`;
  try {
    const response = await send('GET', path, { 'cache-control': 'only-if-cached' });
    const status = response.headers.get('cache-status') ?? '';
    const left = /ttl=(-?\d+)/.exec(status);
    return {
      value: new Uint8Array(await response.arrayBuffer()),
      mediaType: response.headers.get('content-type') ?? '',
      tag: response.headers.get('etag') ?? '',
      tags: response.headers.get('cache-groups') ?? '',
      age: Number(response.headers.get('age') ?? 0),
      timeLeft: left && Number(left[1]) > 0 ? Number(left[1]) : null,
    };
  } catch (error) {
    if (error instanceof ApiError && error.problem.status === 404) return null;
    throw error;
  }
}

/** What an edited entry is stored with. */
export interface EntryEdit {
  value: BodyInit;
  mediaType: string;
  /** The `Cache-Groups` field: the tags, each in quotes. */
  tags: string;
  maxAge: number;
  /** The entity tag of the version that was edited; empty for a new entry. */
  tag: string;
}

async function putEntry(tenant: string, namespace: string, key: string, edit: EntryEdit) {
  const headers = {
    'content-type': edit.mediaType,
    'cache-control': `max-age=${Math.ceil(edit.maxAge)}`,
    ...(edit.tags ? { 'cache-groups': edit.tags } : {}),
    ...(edit.tag ? { 'if-match': edit.tag } : { 'if-none-match': '*' }),
  };
  await send('PUT', `${place(tenant, namespace)}/entries/${encodeURIComponent(key)}`, headers, edit.value);
}

export const api = {
  session: () => call<Session>('GET', '/v1/session'),
  signInByCode: (code: string) => call<Session>('POST', '/v1/session', { code }),
  signInByToken: (token: string) => call<Session>('POST', '/v1/session', { token }),
  signOut: () => call<void>('DELETE', '/v1/session'),
  nodes: async () => (await call<{ items: Node[] }>('GET', '/v1/nodes')).items,
  tenants: async () => (await call<{ items: Tenant[] }>('GET', '/v1/tenants')).items,
  tenant: (name: string) => versioned<Tenant>('GET', `/v1/tenants/${name}`),
  createTenant: (name: string) => call<Tenant>('POST', '/v1/tenants', { name }),
  changeTenant: (name: string, change: TenantQuotaChange, tag: string) =>
    versioned<Tenant>('PATCH', `/v1/tenants/${name}`, change, tag),
  deleteTenant: (name: string) => call<void>('DELETE', `/v1/tenants/${name}`),
  allNamespaces: async () => (await call<{ items: Namespace[] }>('GET', '/v1/namespaces')).items,
  namespace: (tenant: string, name: string) => versioned<Namespace>('GET', place(tenant, name)),
  createNamespace: (tenant: string, name: string, policy: PolicyChange) =>
    call<Namespace>('POST', `/v1/tenants/${tenant}/namespaces`, { name, policy }),
  changeNamespace: (tenant: string, name: string, change: PolicyChange, tag: string) =>
    versioned<Namespace>('PATCH', place(tenant, name), change, tag),
  deleteNamespace: (tenant: string, name: string) => call<void>('DELETE', place(tenant, name)),
  origins: async (tenant: string) =>
    (await call<{ items: Origin[] }>('GET', `/v1/tenants/${tenant}/origins`)).items,
  /** `filters` has prefix, tag, state, order and cursor; empty ones are left out. */
  entries: (tenant: string, namespace: string, filters: Record<string, string>) => {
    const given = Object.entries(filters).filter(([, text]) => text !== '');
    const query = new URLSearchParams({ limit: '200', ...Object.fromEntries(given) });
    return call<EntryPage>('GET', `${place(tenant, namespace)}/entries?${query}`);
  },
  search: (tenant: string, namespace: string, query: string, prefix: string, cursor: string) =>
    call<SearchStep>('POST', `${place(tenant, namespace)}/searches`, {
      query,
      prefix,
      ...(cursor ? { cursor } : {}),
    }),
  check: (tenant: string, namespace: string, cursor: string, remove: boolean) =>
    call<CheckStep>('POST', `${place(tenant, namespace)}/checks`, {
      remove,
      ...(cursor ? { cursor } : {}),
    }),
  damageReports: (tenant: string, namespace: string) =>
    call<DamageReports>('GET', `${place(tenant, namespace)}/damage-reports`),
  lifetimeAdvice: (tenant: string, namespace: string) =>
    call<LifetimeAdvice>('GET', `${place(tenant, namespace)}/lifetime-advice`),
  memoryCurve: (tenant: string, namespace: string) =>
    call<MemoryCurve>('GET', `${place(tenant, namespace)}/memory-curve`),
  memoryDivision: () => call<MemoryDivision>('GET', '/v1/memory-division'),
  usage: (tenant: string, namespace: string, since: Date) => {
    const places = { ...(tenant ? { tenant } : {}), ...(namespace ? { namespace } : {}) };
    const query = new URLSearchParams({ ...places, since: since.toISOString() });
    return call<UsageHistory>('GET', `/v1/usage?${query}`);
  },
  /** The latest refills of a namespace, newest first. */
  recentRefills: async (tenant: string, namespace: string) =>
    (await call<{ recent: RefillEvent[] }>('GET', `${place(tenant, namespace)}/permits`)).recent,
  refill: async (tenant: string, namespace: string, key: string) => {
    const path = `${place(tenant, namespace)}/entries/${encodeURIComponent(key)}`;
    await send('GET', path, { 'cache-control': 'no-cache' });
  },
  countClear: async (tenant: string, namespace: string, prefix: string) => {
    const query = new URLSearchParams({ dry_run: 'true', ...(prefix ? { prefix } : {}) });
    const path = `${place(tenant, namespace)}/entries?${query}`;
    return (await call<{ entries: number }>('DELETE', path)).entries;
  },
  countTag: async (tenant: string, namespace: string, tag: string) => {
    const path = `${place(tenant, namespace)}/tags/${encodeURIComponent(tag)}?dry_run=true`;
    return (await call<{ entries: number }>('DELETE', path)).entries;
  },
  entry,
  putEntry,
  deleteEntry: (tenant: string, namespace: string, key: string) =>
    call<void>('DELETE', `${place(tenant, namespace)}/entries/${encodeURIComponent(key)}`),
  clear: (tenant: string, namespace: string, prefix: string) => {
    const query = prefix ? `?${new URLSearchParams({ prefix })}` : '';
    return call<{ entries: number }>('DELETE', `${place(tenant, namespace)}/entries${query}`);
  },
  invalidateTag: (tenant: string, namespace: string, tag: string) =>
    call<void>('DELETE', `${place(tenant, namespace)}/tags/${encodeURIComponent(tag)}`),
  activity: async (tenant: string) => {
    const query = new URLSearchParams({ limit: '500', ...(tenant ? { tenant } : {}) });
    return (await call<{ items: ActivityItem[] }>('GET', `/v1/activity?${query}`)).items;
  },
  tokens: async () => (await call<{ items: Token[] }>('GET', '/v1/tokens')).items,
  createToken: (scopes: string[], note: string, seconds: number | null) =>
    call<{ secret: string; id: number }>('POST', '/v1/tokens', {
      scopes,
      note,
      ...(seconds === null ? {} : { expires_in_seconds: seconds }),
    }),
  rotateToken: (id: number, overlap: number) =>
    call<{ secret: string }>('POST', `/v1/tokens/${id}/rotate`, { overlap_seconds: overlap }),
  revokeToken: (id: number) => call<void>('DELETE', `/v1/tokens/${id}`),
  sessions: async () => (await call<{ items: LiveSession[] }>('GET', '/v1/sessions')).items,
  endSession: (id: number) => call<void>('DELETE', `/v1/sessions/${id}`),
  standIn: () => call<StandIn>('GET', '/v1/stand-in'),
  changeStandIn: (change: Partial<StandIn>) => call<StandIn>('PATCH', '/v1/stand-in', change),
  loadProfiles: async () =>
    (await call<{ items: OfferedProfile[] }>('GET', '/v1/load-profiles')).items,
  loadProfile: (tenant: string, name: string) =>
    versioned<OfferedProfile>('GET', `/v1/tenants/${tenant}/load-profiles/${name}`),
  /** With a tag, replaces that version; without one, creates. */
  putLoadProfile: (tenant: string, name: string, spec: LoadProfile, tag: string) =>
    define<OfferedProfile>(`/v1/tenants/${tenant}/load-profiles/${name}`, spec, tag),
  deleteLoadProfile: (tenant: string, name: string) =>
    call<void>('DELETE', `/v1/tenants/${tenant}/load-profiles/${name}`),
  setLoadBaseline: (tenant: string, name: string, run: number | null) =>
    call<OfferedProfile>('PUT', `/v1/tenants/${tenant}/load-profiles/${name}/baseline`, { run }),
  compareLoadRuns: (before: number, after: number) =>
    call<RunComparison>('GET', `/v1/load-runs/${after}/comparison?with=${before}`),
  loadRuns: async () => (await call<{ items: LoadRun[] }>('GET', '/v1/load-runs')).items,
  loadRun: (id: number) => call<LoadRun>('GET', `/v1/load-runs/${id}`),
  startLoadRun: (profile: string, joined: boolean) =>
    call<LoadRun>('POST', '/v1/load-runs', { profile, joined }),
  /** The workers of other machines that have joined. */
  loadWorkers: async () => (await call<{ items: JoinedWorker[] }>('GET', '/v1/load-workers')).items,
  recordings: async () => (await call<{ items: TrafficRecording[] }>('GET', '/v1/traffic-recordings')).items,
  /** `namespace` is TENANT/NAMESPACE. */
  recordTraffic: (namespace: string, seconds: number, hashed: boolean) =>
    call<TrafficRecording>('POST', '/v1/traffic-recordings', { namespace, seconds, hash_keys: hashed }),
  stopRecording: (id: number) => call<void>('DELETE', `/v1/traffic-recordings/${id}`),
  changeLoadRun: (id: number, change: { level?: number; paused?: boolean }) =>
    call<LoadRun>('PATCH', `/v1/load-runs/${id}`, change),
  markLoadRun: (id: number, text: string) => call<LoadRun>('POST', `/v1/load-runs/${id}/marks`, { text }),
  drills: async () => (await call<{ items: DrillSpec[] }>('GET', '/v1/drills')).items,
  drillRuns: async () => (await call<{ items: DrillRun[] }>('GET', '/v1/drill-runs')).items,
  startDrill: (drill: string) => call<DrillRun>('POST', '/v1/drill-runs', { drill }),
  /** `namespace` is TENANT/NAMESPACE. */
  forceRelease: (namespace: string, lock: string) => {
    const [tenant, name] = namespace.split('/');
    const at = `/v1/tenants/${tenant}/namespaces/${name}/locks/${encodeURIComponent(lock)}`;
    return call<unknown>('DELETE', `${at}?force=true`);
  },
  hotKeys: (tenant: string, namespace: string) =>
    call<HotKeys>('GET', `${place(tenant, namespace)}/hot-keys?limit=256`),
  warmPlans: async () => (await call<{ items: WarmPlan[] }>('GET', '/v1/warm-plans')).items,
  warmPlan: (tenant: string, plan: string) =>
    versioned<WarmPlan>('GET', `/v1/tenants/${tenant}/warm-plans/${plan}`),
  /** With a tag, replaces that version; without one, creates. */
  putWarmPlan: (tenant: string, plan: string, spec: WarmPlanSpec, tag: string) =>
    define<WarmPlan>(`/v1/tenants/${tenant}/warm-plans/${plan}`, spec, tag),
  deleteWarmPlan: (tenant: string, plan: string) =>
    call<void>('DELETE', `/v1/tenants/${tenant}/warm-plans/${plan}`),
  /** `path` is TENANT/PLAN. */
  startWarmRun: (path: string) => {
    const [tenant, plan] = path.split('/');
    return call<WarmRun>('POST', `/v1/tenants/${tenant}/warm-plans/${plan}/runs`, {});
  },
  estimateWarmRun: (tenant: string, plan: string) =>
    call<WarmEstimate>('POST', `/v1/tenants/${tenant}/warm-plans/${plan}/estimates`, {}),
  warmRuns: async () => (await call<{ items: WarmRun[] }>('GET', '/v1/warm-runs')).items,
  pauseWarmRun: (id: number, paused: boolean) =>
    call<WarmRun>('PATCH', `/v1/warm-runs/${id}`, { paused }),
  stopWarmRun: (id: number) => call<void>('DELETE', `/v1/warm-runs/${id}`),
  schedules: async () => (await call<{ items: Schedule[] }>('GET', '/v1/schedules')).items,
  schedule: (tenant: string, name: string) =>
    versioned<Schedule>('GET', `/v1/tenants/${tenant}/schedules/${name}`),
  putSchedule: (tenant: string, name: string, spec: ScheduleSpec, tag: string) =>
    define<Schedule>(`/v1/tenants/${tenant}/schedules/${name}`, spec, tag),
  pauseSchedule: (tenant: string, name: string, paused: boolean) =>
    call<Schedule>('PATCH', `/v1/tenants/${tenant}/schedules/${name}`, { paused }),
  deleteSchedule: (tenant: string, name: string) =>
    call<void>('DELETE', `/v1/tenants/${tenant}/schedules/${name}`),
  runSchedule: (tenant: string, name: string) =>
    call<ScheduleSlot>('POST', `/v1/tenants/${tenant}/schedules/${name}/runs`, {}),
  scheduleSlots: async (tenant: string, name: string) => {
    const path = `/v1/tenants/${tenant}/schedules/${name}/slots`;
    return (await call<{ items: ScheduleSlot[] }>('GET', path)).items;
  },
  previewSchedule: async (timing: ScheduleTiming) =>
    (await call<{ next: string[] }>('POST', '/v1/schedule-previews', timing)).next,
  stopLoadRun: (id: number) => call<void>('DELETE', `/v1/load-runs/${id}`),
};

/** The message of an error, for people. */
export function messageOf(error: unknown): string {
  if (error instanceof ApiError || error instanceof InvalidField) return error.message;
  return 'Verax does not answer. Is it running?';
}
