// A client of Verax over HTTP, from its OpenAPI description alone.
//
//     const boards = new Verax({ url, token }).cache('ferrydesk', 'boards');
//     const board = await boards.getOrRefill('board/saltmere', () => readDatabase(), { maxAge: 30 });
//
// A cache may lose any entry at any time: a miss means "ask the origin", never "it does not exist".

import type { components } from './openapi.js';
import { Refused, Requests, Unreachable, type Options } from './request.js';

export { Refused, Unreachable, type Options, type Problem } from './request.js';
export type { components, paths } from './openapi.js';

/** Where a value came from. */
export type Source = 'hit' | 'stale' | 'stale-on-error' | 'origin' | 'joined';

/** A value, and what is known about it. Times are in seconds. */
export interface Found {
	value: Uint8Array;
	source: Source;
	age: number;
	timeLeft?: number;
	mediaType: string;
	entityTag?: string;
	revision?: number;
	tags: string[];
}

/** A lifetime in seconds; parts that are left out come from the namespace's policy. */
export interface Lifetime {
	maxAge?: number;
	staleWhileRevalidate?: number;
	staleIfError?: number;
}

/** How to store a value. */
export interface PutOptions extends Lifetime {
	mediaType?: string;
	tags?: string[];
	ifAbsent?: boolean;
	ifMatches?: string;
	ifRevision?: number;
}

/** How to refill: `negativeMaxAge` is how long the knowledge that there is no value is kept. */
export interface RefillOptions extends Lifetime {
	tags?: string[];
	negativeMaxAge?: number;
	/** Each version of the value's schema has an entry of its own. */
	schema?: number;
}

/** Returned by a refill, it says that there is no value; `null` is an ordinary JSON value. */
export const NO_VALUE: unique symbol = Symbol('no value');

/** A value of `findOrRefill`, `NO_VALUE` for a negative entry, and where it came from. */
export interface Cached<T> {
	value: T | typeof NO_VALUE;
	from: 'cache' | 'being-refreshed' | 'stale-on-error' | 'refill' | 'shared-refill';
}

/** Who holds a lock. */
export type LockHolder = components['schemas']['LockHolder'];

/** Another caller holds the lock. */
export class LockHeld extends Error {
	override name = 'LockHeld';

	constructor(
		readonly lock: string,
		readonly owner: string
	) {
		super(`${lock} is held by ${owner}`);
	}
}

const NO_VALUE_TYPE = 'application/vnd.verax.no-value';
const PLACE = '/v1/tenants/{tenant}/namespaces/{namespace}';
const ENTRY = `${PLACE}/entries/{key}` as const;
const LOCK = `${PLACE}/locks/{key}` as const;

/** The address of Verax, and the token to send. */
export class Verax {
	private readonly requests: Requests;

	constructor(options: Options) {
		this.requests = new Requests(options);
	}

	/** A handle on one namespace of one tenant. */
	cache(tenant: string, namespace: string): Cache {
		return new Cache(this.requests, { tenant, namespace });
	}
}

/** A held lock, renewed until it is released. Send `fencingToken` with every write. */
export class Lock {
	private readonly renewing: ReturnType<typeof setInterval>;
	/** Whether the lease is known to have ended. */
	isLost = false;

	constructor(
		readonly name: string,
		readonly fencingToken: number,
		lease: number,
		private readonly renew: () => Promise<void>,
		private readonly end: () => Promise<void>
	) {
		let renewedAt = Date.now();
		this.renewing = setInterval(() => {
			const began = Date.now();
			this.renew().then(
				() => (renewedAt = began),
				(error: unknown) => {
					const isOver = Date.now() - renewedAt >= lease * 1_000;
					if (isOver || (error instanceof Refused && error.status < 500)) this.lose();
				}
			);
		}, (lease * 1_000) / 3);
		this.renewing.unref?.();
	}

	private lose(): void {
		this.isLost = true;
		clearInterval(this.renewing);
	}

	/** Ends the lease. Throws `Refused` (`not-held`) if it had already ended. */
	async release(): Promise<void> {
		clearInterval(this.renewing);
		await this.end();
	}
}

/** A handle on one namespace of one tenant. */
export class Cache {
	private readonly refills = new Map<string, Promise<Cached<unknown>>>();

	constructor(
		private readonly requests: Requests,
		private readonly place: { tenant: string; namespace: string }
	) {}

	/** Gets an entry; a miss reads the namespace's origin, if it has one. `undefined` is a miss or a negative entry. */
	async get(key: string, options: { onlyIfCached?: boolean; refresh?: boolean; staleIfError?: boolean } = {}): Promise<Found | undefined> {
		const found = await this.lookUp(key, options);
		return found === NO_VALUE ? undefined : found;
	}

	/** As `get`, but a negative entry is `NO_VALUE`. */
	async lookUp(
		key: string,
		options: { onlyIfCached?: boolean; refresh?: boolean; staleIfError?: boolean } = {}
	): Promise<Found | undefined | typeof NO_VALUE> {
		const directives = [
			options.refresh && 'no-cache',
			options.onlyIfCached && 'only-if-cached',
			options.staleIfError && 'stale-if-error=315360000'
		].filter(Boolean);
		const headers: Record<string, string> = directives.length ? { 'Cache-Control': directives.join(', ') } : {};
		try {
			return await found(await this.requests.send(ENTRY, 'get', { path: this.of(key), headers }));
		} catch (error) {
			if (error instanceof Refused && error.problem === 'miss') return undefined;
			if (error instanceof Refused && error.problem === 'no-value') return NO_VALUE;
			throw error;
		}
	}

	/** Stores a value; returns whether it replaced one. */
	async put(key: string, value: string | Uint8Array, options: PutOptions = {}): Promise<boolean> {
		return await this.store(key, value, options, undefined);
	}

	private async store(key: string, value: string | Uint8Array, options: PutOptions, permit: number | undefined): Promise<boolean> {
		const headers: Record<string, string> = {
			'Content-Type': options.mediaType ?? 'application/octet-stream',
			...cacheControl(options)
		};
		if (options.tags !== undefined && options.tags.length > 0) headers['Cache-Groups'] = groups(options.tags);
		if (options.ifAbsent) headers['If-None-Match'] = '*';
		if (options.ifMatches !== undefined) headers['If-Match'] = options.ifMatches;
		if (options.ifRevision !== undefined) headers['Verax-If-Revision'] = String(options.ifRevision);
		if (permit !== undefined) headers['Verax-Permit'] = String(permit);
		const bytes = new Uint8Array(typeof value === 'string' ? new TextEncoder().encode(value) : value);
		const response = await this.requests.send(ENTRY, 'put', { path: this.of(key), headers, bytes });
		return response.status === 204;
	}

	/** Deletes an entry; returns whether it existed. */
	async delete(key: string): Promise<boolean> {
		const response = await this.requests.send(ENTRY, 'delete', { path: this.of(key) });
		return response.headers.get('Verax-Deleted') === '?1';
	}

	/** Sets an entry's lifetime, counted from now; returns whether it exists. */
	async setLifetime(key: string, lifetime: Lifetime): Promise<boolean> {
		try {
			await this.requests.send(ENTRY, 'patch', { path: this.of(key), headers: cacheControl(lifetime) });
			return true;
		} catch (error) {
			if (error instanceof Refused && error.problem === 'miss') return false;
			throw error;
		}
	}

	/** Invalidates every entry with a tag. */
	async invalidateTag(tag: string): Promise<void> {
		await this.requests.send(`${PLACE}/tags/{tag}`, 'delete', { path: { ...this.place, tag } });
	}

	/** Removes every entry, or those whose keys start with `prefix`; returns how many. */
	async clear(prefix?: string): Promise<number> {
		const query = prefix === undefined ? {} : { prefix };
		const response = await this.requests.send(`${PLACE}/entries`, 'delete', { path: this.place, query });
		return ((await response.json()) as { entries: number }).entries;
	}

	/** The keys that start with `prefix`, page by page. */
	async *keys(prefix = ''): AsyncGenerator<string> {
		let cursor: string | null | undefined;
		do {
			const query = { prefix, limit: 1_000, ...(cursor ? { cursor } : {}) };
			const page = await this.requests.json(`${PLACE}/entries`, 'get', { path: this.place, query });
			for (const item of page.items) yield item.key;
			cursor = page.cursor;
		} while (cursor);
	}

	/** Carries out several operations; one result for each, in order. */
	async batch(operations: components['schemas']['BatchOperation'][]): Promise<components['schemas']['BatchResult'][]> {
		const results: components['schemas']['BatchResult'][] = [];
		for (let at = 0; at < operations.length; at += 1_000) {
			const json = { operations: operations.slice(at, at + 1_000) };
			const answer = await this.requests.json(`${PLACE}/batch`, 'post', { path: this.place, json });
			results.push(...answer.results);
		}
		return results;
	}

	/** Adds to a counter, and creates it if missing; returns its value. */
	async add(key: string, amount = 1, lifetime: Lifetime = {}): Promise<number> {
		const json = { add: amount, cache_control: cacheControl(lifetime)['Cache-Control'] };
		return (await this.requests.json(`${PLACE}/counters/{key}`, 'post', { path: this.of(key), json })).value;
	}

	/** Acquires from a rate limit: `undefined` when it was acquired, else the seconds to wait. */
	async acquireRate(key: string, rate: { amount?: number; rate: number; period: number; burst?: number }): Promise<number | undefined> {
		const json = { acquire: rate.amount ?? 1, rate: rate.rate, period_seconds: rate.period, burst: rate.burst ?? rate.rate };
		try {
			await this.requests.json(`${PLACE}/rate-limits/{key}`, 'post', { path: this.of(key), json });
			return undefined;
		} catch (error) {
			if (error instanceof Refused && error.problem === 'rate-limited') return member(error, 'retry_after_seconds');
			throw error;
		}
	}

	/** Acquires a lock, waiting for at most `wait` seconds. Throws `LockHeld` if another caller holds it. */
	async acquireLock(name: string, options: { owner?: string; lease?: number; wait?: number } = {}): Promise<Lock> {
		const [path, lease, wait] = [this.of(name), options.lease ?? 30, Math.ceil(options.wait ?? 0)];
		const headers: Record<string, string> = wait > 0 ? { Prefer: `wait=${wait}` } : {};
		const json = { lease_seconds: lease, owner: options.owner };
		try {
			const { fencing_token } = await this.requests.json(LOCK, 'post', { path, headers, json, wait: wait * 1_000 });
			const renew = async () => {
				await this.requests.send(LOCK, 'patch', { path, json: { fencing_token, lease_seconds: lease } });
			};
			const end = async () => {
				await this.requests.send(LOCK, 'delete', { path, query: { fencing_token } });
			};
			return new Lock(name, fencing_token, lease, renew, end);
		} catch (error) {
			if (error instanceof Refused && error.problem === 'locked') throw new LockHeld(name, member(error, 'owner'));
			throw error;
		}
	}

	/** Who holds a lock; `undefined` when it is free. */
	async peekLock(name: string): Promise<LockHolder | undefined> {
		return (await this.requests.json(LOCK, 'get', { path: this.of(name) })).holder ?? undefined;
	}

	/** Returns the JSON value of a key: from the cache, otherwise from `refill`, whose value is stored. See `findOrRefill`. */
	async getOrRefill<T>(key: string, refill: () => Promise<T>, options: RefillOptions = {}): Promise<T> {
		const cached = await this.findOrRefill(key, refill, options);
		if (cached.value === NO_VALUE) throw new TypeError('a refill of getOrRefill found no value');
		return cached.value;
	}

	/**
	 * Returns the JSON value of a key, or `NO_VALUE`: from the cache, otherwise from `refill`, whose value is
	 * stored. Of all callers that miss it at the same time, in any process, one refills and the others wait for
	 * its value. A value read before an invalidation is never stored after it. When `refill` fails, a copy within
	 * its stale-if-error time is returned. The value does not depend on the cache: only errors of `refill` are
	 * thrown.
	 */
	async findOrRefill<T>(key: string, refill: () => Promise<T | typeof NO_VALUE>, options: RefillOptions = {}): Promise<Cached<T>> {
		const versioned = options.schema === undefined ? key : `${key};schema=${options.schema}`;
		const found = await this.quietly(() => this.lookUp(versioned, { onlyIfCached: true }));
		if (found === NO_VALUE) return { value: NO_VALUE, from: 'cache' };
		const known = found === undefined ? undefined : read<T>(found);
		if (known !== undefined && found?.source === 'hit') return { value: known.value, from: 'cache' };
		// Callers of this process that wait for the same key share the refill that has not begun to read.
		const active = this.refills.get(versioned) as Promise<Cached<T>> | undefined;
		if (active !== undefined) {
			const shared = await active.catch(() => undefined);
			if (shared !== undefined) return { ...shared, from: 'shared-refill' };
		}
		const refilling = this.refillNow(versioned, refill, options, found !== undefined, known?.value);
		this.refills.set(versioned, refilling);
		try {
			return await refilling;
		} finally {
			if (this.refills.get(versioned) === refilling) this.refills.delete(versioned);
		}
	}

	private async refillNow<T>(
		key: string,
		refill: () => Promise<T | typeof NO_VALUE>,
		options: RefillOptions,
		refresh: boolean,
		previous: T | undefined
	): Promise<Cached<T>> {
		const permit = await this.quietly(() => this.acquirePermit(key, refresh));
		if (permit === NO_VALUE) return { value: NO_VALUE, from: 'shared-refill' };
		if (typeof permit === 'object') {
			const shared = read<T>(permit);
			if (shared !== undefined) return { value: shared.value, from: 'shared-refill' };
		}
		// From here on a later caller may know of an invalidation that this refill does not.
		this.refills.delete(key);
		let value: T | typeof NO_VALUE;
		try {
			value = await refill();
		} catch (error) {
			if (typeof permit === 'number') await this.quietly(() => this.releasePermit(key, permit));
			if (previous !== undefined) return { value: previous, from: 'stale-on-error' };
			const stale = await this.quietly(() => this.get(key, { onlyIfCached: true, staleIfError: true }));
			const copy = stale === undefined ? undefined : read<T>(stale);
			if (copy === undefined) throw error;
			return { value: copy.value, from: stale?.source === 'hit' ? 'cache' : 'stale-on-error' };
		}
		// Without a permit nothing is stored, since it could be outdated.
		if (typeof permit === 'number') {
			const isNone = value === NO_VALUE;
			const lifetime = isNone ? { maxAge: options.negativeMaxAge, staleWhileRevalidate: 0, staleIfError: 0 } : options;
			const mediaType = isNone ? NO_VALUE_TYPE : 'application/json';
			const body = isNone ? '' : JSON.stringify(value);
			const put = { ...lifetime, mediaType, tags: options.tags };
			await this.quietly(() => this.store(key, body, put, permit));
		}
		return { value, from: 'refill' };
	}

	private async acquirePermit(key: string, refresh: boolean): Promise<number | Found | typeof NO_VALUE | undefined> {
		const [path, headers, json] = [this.of(key), { Prefer: 'wait=5' }, { lease_seconds: 30, refresh, stale: true }];
		try {
			const response = await this.requests.send(`${PLACE}/permits/{key}`, 'post', { path, headers, json, wait: 5_000 });
			if (response.status !== 201) return await found(response);
			return ((await response.json()) as components['schemas']['PermitGrant']).permit;
		} catch (error) {
			if (error instanceof Refused && error.problem === 'no-value') return NO_VALUE;
			throw error;
		}
	}

	private async releasePermit(key: string, permit: number): Promise<void> {
		await this.requests.send(`${PLACE}/permits/{key}`, 'delete', { path: this.of(key), query: { permit } });
	}

	/** What the cache says, or `undefined` when it says nothing. */
	private async quietly<T>(ask: () => Promise<T>): Promise<T | undefined> {
		try {
			return await ask();
		} catch (error) {
			if (error instanceof Refused || error instanceof Unreachable) return undefined;
			throw error;
		}
	}

	private of(key: string): { tenant: string; namespace: string; key: string } {
		return { ...this.place, key };
	}
}

function cacheControl(lifetime: Lifetime): Record<string, string> {
	const parts = {
		'max-age': lifetime.maxAge,
		'stale-while-revalidate': lifetime.staleWhileRevalidate,
		'stale-if-error': lifetime.staleIfError
	};
	const directives = Object.entries(parts).filter(([, time]) => time !== undefined);
	const field = directives.map(([name, time]) => `${name}=${Math.ceil(time ?? 0)}`).join(', ');
	return field === '' ? {} : { 'Cache-Control': field };
}

function groups(tags: string[]): string {
	return tags.map((tag) => `"${tag.replace(/[\\"]/g, '\\$&')}"`).join(', ');
}

function member<T>(error: Refused, name: string): T {
	return (error.document as unknown as Record<string, T>)[name] as T;
}

async function found(response: Response): Promise<Found> {
	const { headers } = response;
	const status = (headers.get('Cache-Status') ?? '').split(';').map((part) => part.trim());
	const ttl = Number(status.find((part) => part.startsWith('ttl='))?.slice(4) ?? 'NaN');
	const revision = headers.get('Verax-Revision');
	return {
		value: new Uint8Array(await response.arrayBuffer()),
		source: sourceOf(status, ttl),
		age: Number(headers.get('Age') ?? 0),
		timeLeft: ttl > 0 ? ttl : undefined,
		mediaType: headers.get('Content-Type') ?? '',
		entityTag: headers.get('ETag') ?? undefined,
		revision: revision === null ? undefined : Number(revision),
		tags: [...(headers.get('Cache-Groups') ?? '').matchAll(/"((?:[^"\\]|\\.)*)"/g)].map((match) =>
			(match[1] ?? '').replace(/\\(.)/g, '$1')
		)
	};
}

function sourceOf(status: string[], ttl: number): Source {
	if (status.includes('hit')) return ttl < 0 ? 'stale' : 'hit';
	if (status.includes('fwd=stale')) return 'stale-on-error';
	return status.includes('collapsed') ? 'joined' : 'origin';
}

/** The JSON of a value; `undefined` if it is none. */
function read<T>(found: Found): { value: T } | undefined {
	try {
		return { value: JSON.parse(new TextDecoder('utf-8', { fatal: true }).decode(found.value)) as T };
	} catch {
		return undefined;
	}
}
