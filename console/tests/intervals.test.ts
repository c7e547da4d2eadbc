import { describe, expect, it } from 'vitest';
import { intervals, intervalsText } from '../src/lib/intervals';

describe('intervals', () => {
  it('survive text', () => {
    const text = 'tag:boards=30s, refresh prefix:board/=5m, all=1h';
    const rules = intervals(text);
    expect(rules).toEqual([
      { tag: 'boards', every_seconds: 30, refresh: false },
      { prefix: 'board/', every_seconds: 300, refresh: true },
      { every_seconds: 3600, refresh: false },
    ]);
    expect(intervals(intervalsText(rules))).toEqual(rules);
    expect(intervals('  ')).toEqual([]);
  });

  it('name what cannot be read', () => {
    for (const wrong of ['boards=5s', 'tag:=5s', 'all', 'all=soon']) {
      expect(() => intervals(wrong), wrong).toThrow(/cannot be read/);
    }
  });
});
