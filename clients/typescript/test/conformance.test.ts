// Runs ../conformance/cases.json against the Verax that VERAX_URL and VERAX_TOKEN name.

import assert from 'node:assert/strict';
import { readFileSync } from 'node:fs';
import { test } from 'node:test';
import { Cache, LockHeld, NO_VALUE, Refused, Unreachable, Verax, type Found, type Lock, type components } from '../src/index.js';

type Step = Record<string, any>;
type Result = components['schemas']['BatchResult'];

const file = new URL('../../../conformance/cases.json', import.meta.url);
const cases = JSON.parse(readFileSync(file, 'utf-8')) as { name: string; steps: Step[] }[];

const text = (value: any): string => (typeof value === 'string' ? value : value.repeat.repeat(value.times));
const lifetime = (step: Step) => ({
	maxAge: step.max_age,
	staleWhileRevalidate: step.stale_while_revalidate,
	staleIfError: step.stale_if_error
});

function found(read: Found | undefined | typeof NO_VALUE): Step {
	if (read === NO_VALUE) return { no_value: true };
	if (read === undefined) return { miss: true };
	return { value: new TextDecoder().decode(read.value), source: read.source };
}

function refused(error: unknown): Step {
	if (error instanceof Refused) return { refused: error.problem === 'bad-request' ? 'invalid' : error.problem };
	if (error instanceof RangeError) return { refused: 'invalid' };
	if (error instanceof LockHeld) return { held_by: error.owner };
	throw error;
}

function ofBatch(result: Result): Step {
	if ('value' in result) return { value: result.value.text, source: 'hit' };
	if ('stored' in result) return { replaced: result.stored.replaced };
	if ('deleted' in result) return { deleted: result.deleted.was_there };
	if ('miss' in result) return { miss: true };
	return refused(new Refused(result.failed.status, result.failed));
}

class Runner {
	private readonly revisions = new Map<string, number>();
	private readonly locks = new Map<string, Lock>();

	constructor(private readonly cache: Cache) {}

	async step(step: Step): Promise<Step> {
		try {
			return await this.carryOut(step);
		} catch (error) {
			return error === 'the refill fails' ? { failed: true } : refused(error);
		}
	}

	private async carryOut(step: Step): Promise<Step> {
		const { cache } = this;
		const key = step.key === undefined ? '' : text(step.key);
		switch (step.call) {
			case 'get':
				return found(await cache.get(key, { onlyIfCached: step.only_if_cached, staleIfError: step.stale_if_error }));
			case 'look_up':
				return found(await cache.lookUp(key));
			case 'details': {
				const read = await cache.get(key);
				if (read === undefined) return { miss: true };
				assert.ok(read.entityTag);
				return { media_type: read.mediaType, tags: read.tags, has_revision: read.revision !== undefined };
			}
			case 'remember':
				this.revisions.set(step.name, (await cache.get(key))?.revision ?? NaN);
				return { done: true };
			case 'put': {
				const ifRevision = this.revisions.get(step.if_revision) ?? step.if_revision;
				const conditions = { ifAbsent: step.if_absent, ifMatches: step.if_matches, ifRevision };
				const options = { ...lifetime(step), ...conditions, mediaType: step.media_type, tags: step.tags };
				return { replaced: await cache.put(key, text(step.value), options) };
			}
			case 'delete':
				return { deleted: await cache.delete(key) };
			case 'set_lifetime':
				return { exists: await cache.setLifetime(key, lifetime(step)) };
			case 'invalidate_tag':
				await cache.invalidateTag(step.tag);
				return { done: true };
			case 'clear':
				return { cleared: await cache.clear(step.prefix) };
			case 'keys': {
				const keys = [];
				for await (const listed of cache.keys(step.prefix)) keys.push(listed);
				return { keys: keys.sort() };
			}
			case 'put_many':
			case 'get_many':
			case 'delete_many':
				return { results: (await cache.batch(operations(step))).map(ofBatch) };
			case 'add':
				return { counter: await cache.add(key, step.amount) };
			case 'acquire_rate':
				return (await cache.acquireRate(key, step as any)) === undefined ? { acquired: true } : { later: true };
			case 'lock':
				this.locks.set(step.as, await cache.acquireLock(step.name, step));
				return { acquired: true };
			case 'release':
				await this.locks.get(step.lock)?.release();
				return { done: true };
			case 'larger_token':
				return { larger: this.token(step.lock) > this.token(step.than) };
			case 'peek_lock': {
				const holder = await cache.peekLock(step.name);
				return holder === undefined ? { free: true } : { held_by: holder.owner };
			}
			case 'refill':
				return await this.refill(step);
			default:
				throw new Error(`an unknown call: ${step.call}`);
		}
	}

	private token(name: string): number {
		return this.locks.get(name)?.fencingToken ?? NaN;
	}

	private async refill(step: Step): Promise<Step> {
		const refill = async () => {
			for (const during of step.during ?? []) assert.deepEqual(await this.step(during), during.is);
			if (step.fails) throw 'the refill fails';
			return step.no_value ? NO_VALUE : step.value;
		};
		const options = { ...lifetime(step), tags: step.tags, schema: step.schema, negativeMaxAge: step.negative_max_age };
		const { value, from } = await this.cache.findOrRefill(step.key, refill, options);
		return value === NO_VALUE ? { no_value: true, from } : { value, from };
	}
}

function operations(step: Step): components['schemas']['BatchOperation'][] {
	if (step.call === 'get_many') return step.keys.map((key: string) => ({ get: { key } }));
	if (step.call === 'delete_many') return step.keys.map((key: string) => ({ delete: { key } }));
	return step.values.map((one: Step) => {
		const { key, value, media_type, tags } = one;
		return { put: { key, text: value, ...(media_type && { media_type }), ...(tags && { tags }) } };
	});
}

const options = { url: process.env.VERAX_URL ?? '', token: process.env.VERAX_TOKEN ?? '', timeout: 30_000 };

for (const { name, steps } of cases) {
	test(`conforms: ${name}`, async () => {
		const cache = new Verax(options).cache('ferrydesk', 'typescript');
		await cache.clear();
		const runner = new Runner(cache);
		for (const step of steps) {
			const { is, ...call } = step;
			assert.deepEqual(await runner.step(call), is, JSON.stringify(call).slice(0, 200));
		}
	});
}

test('callers share a refill, and a value comes without Verax', async () => {
	const cache = new Verax(options).cache('ferrydesk', 'typescript');
	await cache.clear();
	let reads = 0;
	const refill = async () => {
		reads += 1;
		await new Promise((resolve) => setTimeout(resolve, 100));
		return ['07:10'];
	};
	const read = () => cache.getOrRefill('board', refill, { maxAge: 60 });
	assert.deepEqual(await Promise.all(Array.from({ length: 50 }, read)), Array(50).fill(['07:10']));
	assert.equal(reads, 1);
	const nowhere = new Verax({ ...options, url: 'http://127.0.0.1:1' }).cache('ferrydesk', 'typescript');
	assert.deepEqual(await nowhere.getOrRefill('board', refill), ['07:10']);
	await assert.rejects(nowhere.get('board'), Unreachable);
});
