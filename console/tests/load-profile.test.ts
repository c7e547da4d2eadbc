import { describe, expect, it } from 'vitest';
import type { LoadProfile } from '../src/lib/api';
import { readProfile, writeProfile } from '../src/lib/load-profile';

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
