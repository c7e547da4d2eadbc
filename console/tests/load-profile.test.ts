import { describe, expect, it } from 'vitest';
import type { LoadProfile, TrafficRecording } from '../src/lib/api';
import { levelText, loadText, readProfile, replayOf, unitOf, writeProfile } from '../src/lib/load-profile';

describe('a load profile as text', () => {
  const profile = {
    name: 'rush',
    title: 'Boards',
    namespace: 'ferrydesk/boards',
    popularity: { zipf: 1.5 },
    lanes: [{ name: 'cached', reads: 'cache' }],
    keys: [{ pattern: { values: { harbor: { listing: '/harbors' } } } }],
    arrivals: { clients: 2 },
    seed: 11,
  } as unknown as LoadProfile;

  it('is read as it was written', () => {
    expect(readProfile(writeProfile(profile))).toEqual(profile);
  });

  it('says where it is wrong', () => {
    expect(() => readProfile('name = "a"\nseed = \n')).toThrow(/^Line 2, column \d+: /);
  });
});

describe('the level of a profile', () => {
  const of = (arrivals: unknown, more = {}) => ({ name: 'x', namespace: 'a/b', arrivals, ...more }) as unknown as LoadProfile;

  it('counts what its arrivals have', () => {
    expect(unitOf(of(undefined))).toBe('clients');
    expect(unitOf(of({ instances: 2 }))).toBe('instances');
    expect(unitOf(of({ rate: 5 }))).toBe('requests per second');
    expect(unitOf(of({ recording: 7 }))).toBe('times the recorded pace');
  });

  it('is written with its unit', () => {
    expect(levelText('clients', 1)).toBe('1 client');
    expect(levelText('instances', 8)).toBe('8 instances');
    expect(levelText('requests per second', 1)).toBe('1 requests per second');
    expect(loadText(of({ recording: 7, speed: 10 }))).toBe('10 × the recorded pace');
    expect(loadText(of({}))).toBe('4 clients');
    expect(loadText(of({ instances: 1 }, { steps: { levels: [1, 2], each_seconds: 3 } }))).toBe('1, 2 instances');
  });

  it('of a replay is its pace, with other keys in place of hashed ones', () => {
    const recording = { id: 7, namespace: 'a/b', hash_keys: false, keys: 12 } as TrafficRecording;
    expect(replayOf(recording).arrivals).toEqual({ recording: 7, speed: 1 });
    expect(replayOf(recording)).not.toHaveProperty('keys');
    expect(replayOf({ ...recording, hash_keys: true }).keys).toEqual([{ hottest: 12 }]);
  });
});
