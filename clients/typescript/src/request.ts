// Requests whose paths, parameters, bodies and answers have the types of the OpenAPI description.

import type { components, paths } from './openapi.js';

/** A problem document (RFC 9457). */
export type Problem = components['schemas']['Problem'];

/** Verax could not be reached, or did not respond in time. */
export class Unreachable extends Error {
	override name = 'Unreachable';
}

/** Verax refused or failed: `problem` is the short name of the problem, such as `missing-scope`. */
export class Refused extends Error {
	override name = 'Refused';
	readonly problem: string;

	constructor(
		readonly status: number,
		readonly document: Problem
	) {
		super(document.detail);
		this.problem = document.type.replace('urn:verax:problem:', '');
	}
}

type Method = 'get' | 'put' | 'post' | 'patch' | 'delete';
type MethodsOf<P extends keyof paths> = {
	[M in Method]: paths[P][M] extends { responses: unknown } ? M : never;
}[Method];

type Json<Content> = Content extends { content: { 'application/json': infer Body } } ? Body : never;

/** The body of a request, if it has one in JSON. */
type BodyOf<P extends keyof paths, M extends keyof paths[P]> = paths[P][M] extends {
	requestBody: infer Body;
}
	? Json<Body>
	: never;

type Success = 200 | 201 | 202;

/** The JSON of a response to a request that succeeded. */
type AnswerOf<P extends keyof paths, M extends keyof paths[P]> = paths[P][M] extends {
	responses: infer Responses;
}
	? { [Status in keyof Responses & Success]: Json<Responses[Status]> }[keyof Responses & Success]
	: never;

type QueryOf<P extends keyof paths, M extends keyof paths[P]> = paths[P][M] extends {
	parameters: { query?: infer Query };
}
	? NonNullable<Query>
	: never;

/** How to reach Verax. */
export interface Options {
	/** Its address, such as `http://127.0.0.1:8750`. */
	url: string;
	/** The token, or what returns the current one. */
	token: string | (() => string);
	/** The timeout of a call, in milliseconds; 5,000 by default. */
	timeout?: number;
}

interface Sent<P extends keyof paths, M extends keyof paths[P]> {
	path: Record<string, string>;
	query?: QueryOf<P, M>;
	json?: BodyOf<P, M>;
	/** A body that is not JSON. */
	bytes?: Uint8Array<ArrayBuffer>;
	headers?: Record<string, string>;
	/** How much longer than the timeout the response may take, in milliseconds. */
	wait?: number;
	timeout?: number;
}

/** Sends the requests. */
export class Requests {
	constructor(private readonly options: Options) {}

	/** Sends a request and returns the response; refusals are thrown. */
	async send<P extends keyof paths, M extends MethodsOf<P> & keyof paths[P]>(
		template: P,
		method: M,
		sent: Sent<P, M>
	): Promise<Response> {
		const path = template.replace(/\{(\w+)\}/g, (_, name: string) => segment(sent.path[name] ?? ''));
		const url = new URL(path, this.options.url);
		for (const [name, value] of Object.entries(sent.query ?? {})) {
			if (value !== undefined) url.searchParams.set(name, String(value));
		}
		const { token } = this.options;
		const headers: Record<string, string> = {
			Authorization: `Bearer ${typeof token === 'string' ? token : token()}`,
			...sent.headers
		};
		if (sent.json !== undefined) headers['Content-Type'] = 'application/json';
		const limit = (sent.timeout ?? this.options.timeout ?? 5_000) + (sent.wait ?? 0);
		let response: Response;
		try {
			response = await fetch(url, {
				method: String(method).toUpperCase(),
				headers,
				body: sent.json === undefined ? sent.bytes : JSON.stringify(sent.json),
				signal: AbortSignal.timeout(limit)
			});
		} catch (error) {
			throw new Unreachable(`Verax at ${this.options.url} cannot be reached: ${reason(error)}`);
		}
		if (response.ok) return response;
		throw new Refused(response.status, (await response.json()) as Problem);
	}

	/** Sends a request whose answer is JSON. */
	async json<P extends keyof paths, M extends MethodsOf<P> & keyof paths[P]>(
		template: P,
		method: M,
		sent: Sent<P, M>
	): Promise<AnswerOf<P, M>> {
		return (await (await this.send(template, method, sent)).json()) as AnswerOf<P, M>;
	}
}

function segment(text: string): string {
	if (['', '.', '..'].includes(text)) throw new RangeError(`"${text}" cannot be put in a URL`);
	return encodeURIComponent(text);
}

function reason(error: unknown): string {
	const cause = error instanceof Error && error.cause instanceof Error ? error.cause : error;
	return cause instanceof Error ? cause.message : String(cause);
}
