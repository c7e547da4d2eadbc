import { describe, expect, test } from 'vitest';
import { readSources, writeSources } from '../src/lib/key-sources';

describe('the sources of a plan', () => {
  test('are read as they are written', () => {
    const text = [
      'board/aldermouth',
      'key tag of the day',
      'hottest 50',
      'tag weather',
      'prefix board/',
      'pattern fare/{from}/{to} from=aldermouth,brinewick to=origin:/harbors',
      'pattern sailing/{day}/{number} day=days:-1..7@Europe/Lisbon number=range:1..20/2',
      'pattern rows=query:sailings',
    ].join('\n');
    const sources = readSources(text);
    expect(sources).toHaveLength(7);
    expect(sources[0]).toEqual({ list: ['board/aldermouth', 'tag of the day'] });
    expect(sources[4]).toEqual({
      pattern: {
        pattern: 'fare/{from}/{to}',
        values: { from: { list: ['aldermouth', 'brinewick'] }, to: { listing: '/harbors' } },
      },
    });
    expect(writeSources(sources)).toBe(text);
    expect(readSources(writeSources(sources))).toEqual(sources);
  });

  test.each(['', 'hottest many', 'pattern a b', 'pattern a/{n} n=range:1', 'pattern a/{d} d=days:x..y'])(
    '%j is refused with what to write',
    (text) => expect(() => readSources(text)).toThrow(),
  );
});
