/** The sources of a plan's keys, as lines of text that people edit. */
import type { components } from './openapi';
import { InvalidField } from './quantities';

type Shapes = components['schemas'];
type KeySource = Shapes['KeySource'];
type WarmValues = Shapes['WarmValues'];

/** The words that begin a line which is not a key. */
const WORDS = ['hottest', 'tag', 'prefix', 'pattern', 'key'];

function valuesOf(text: string, line: string): WarmValues {
  const listing = /^origin:(.+)$/.exec(text);
  if (listing) return { listing: listing[1]! };
  const range = /^range:(-?\d+)\.\.(-?\d+)(?:\/(\d+))?$/.exec(text);
  if (range) {
    const step = range[3] === undefined ? {} : { step: Number(range[3]) };
    return { range: { from: Number(range[1]), to: Number(range[2]), ...step } };
  }
  const days = /^days:(-?\d+)\.\.(-?\d+)(?:@(\S+))?$/.exec(text);
  if (days) {
    const zone = days[3] === undefined ? {} : { time_zone: days[3] };
    return { days: { from: Number(days[1]), to: Number(days[2]), ...zone } };
  }
  if (/^(range|days):/.test(text)) throw new InvalidField(`“${line}”: write range:1..20, range:0..100/5 or days:-1..7`);
  return { list: text.split(',') };
}

function patternOf(words: string[], line: string): KeySource {
  const values: Record<string, WarmValues> = {};
  let pattern: string | undefined;
  let rows: Shapes['WarmRows'] | undefined;
  for (const word of words) {
    const at = word.indexOf('=');
    if (at < 0) {
      if (pattern !== undefined) throw new InvalidField(`“${line}”: write VARIABLE=VALUES after the pattern`);
      pattern = word;
    } else if (word.startsWith('rows=query:')) {
      rows = { query: word.slice('rows=query:'.length) };
    } else if (word.startsWith('rows=origin:')) {
      rows = { listing: word.slice('rows=origin:'.length) };
    } else {
      values[word.slice(0, at)] = valuesOf(word.slice(at + 1), line);
    }
  }
  return { pattern: { ...(pattern === undefined ? {} : { pattern }), values, ...(rows ? { rows } : {}) } };
}

/** Reads the lines; keys next to each other are one list. */
export function readSources(text: string): KeySource[] {
  const sources: KeySource[] = [];
  for (const line of text.split('\n').map((one) => one.trim()).filter((one) => one !== '')) {
    const [word = '', ...rest] = line.split(/\s+/);
    const value = line.slice(word.length).trim();
    const last = sources.at(-1);
    if (!WORDS.includes(word) || word === 'key') {
      const key = word === 'key' ? value : line;
      if (last && 'list' in last) last.list.push(key);
      else sources.push({ list: [key] });
    } else if (word === 'hottest') {
      if (!/^\d+$/.test(value)) throw new InvalidField(`“${line}”: write a number, such as hottest 50`);
      sources.push({ hottest: Number(value) });
    } else if (word === 'tag') {
      sources.push({ tag: value });
    } else if (word === 'prefix') {
      sources.push({ prefix: value });
    } else {
      sources.push(patternOf(rest, line));
    }
  }
  if (sources.length === 0) throw new InvalidField('Say which keys the plan fills.');
  return sources;
}

function valuesText(values: WarmValues): string {
  if ('list' in values) return values.list.join(',');
  if ('listing' in values) return `origin:${values.listing}`;
  if ('range' in values) {
    const { from, to, step } = values.range;
    return `range:${from}..${to}${step == null ? '' : `/${step}`}`;
  }
  const { from, to, time_zone } = values.days;
  return `days:${from}..${to}${time_zone == null ? '' : `@${time_zone}`}`;
}

function linesOf(source: KeySource): string[] {
  if ('list' in source) return source.list.map((key) => (WORDS.includes(key.split(' ')[0]!) ? `key ${key}` : key));
  if ('hottest' in source) return [`hottest ${source.hottest}`];
  if ('tag' in source) return [`tag ${source.tag}`];
  if ('prefix' in source) return [`prefix ${source.prefix}`];
  const { pattern, values, rows } = source.pattern;
  const given = Object.entries(values ?? {}).map(([name, one]) => `${name}=${valuesText(one)}`);
  const from = rows ? [`rows=${'query' in rows ? `query:${rows.query}` : `origin:${rows.listing}`}`] : [];
  return [['pattern', ...(pattern == null ? [] : [pattern]), ...given, ...from].join(' ')];
}

/** Writes sources as lines. */
export function writeSources(sources: KeySource[]): string {
  return sources.flatMap(linesOf).join('\n');
}
