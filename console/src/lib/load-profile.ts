/** Load profiles as text: TOML, as in files. */
import { parse, stringify, TomlError } from 'smol-toml';
import type { LoadProfile, TrafficRecording } from './api';
import { InvalidField } from './quantities';

/** The text of a profile. */
export function writeProfile(profile: LoadProfile): string {
  return stringify(profile);
}

/** The profile of a text. What is wrong is said with its line and column. */
export function readProfile(text: string): LoadProfile {
  try {
    return parse(text) as unknown as LoadProfile;
  } catch (error) {
    if (!(error instanceof TomlError)) throw error;
    const what = error.message.split('\n')[0]!.replace(/^Invalid TOML document: /, '');
    throw new InvalidField(`Line ${error.line}, column ${error.column}: ${what}.`);
  }
}

/** What the level of a profile's stages counts. */
export type LevelUnit = 'clients' | 'instances' | 'requests per second' | 'times the recorded pace';

/** What the level of a profile's stages counts. */
export function unitOf({ arrivals }: LoadProfile): LevelUnit {
  if (arrivals?.rate != null) return 'requests per second';
  if (arrivals?.recording != null) return 'times the recorded pace';
  return arrivals?.instances != null ? 'instances' : 'clients';
}

/** A level with its unit. */
export function levelText(unit: LevelUnit, level: number): string {
  if (unit === 'times the recorded pace') return `${level} × the recorded pace`;
  const isOne = level === 1 && unit !== 'requests per second';
  return `${level} ${isOne ? unit.slice(0, -1) : unit}`;
}

/** The load of a profile, in words. */
export function loadText(profile: LoadProfile): string {
  const unit = unitOf(profile);
  if (profile.steps) return `${profile.steps.levels.join(', ')} ${unit}`;
  const { arrivals } = profile;
  const level = arrivals?.rate ?? arrivals?.instances ?? arrivals?.clients;
  return levelText(unit, unit === 'times the recorded pace' ? (arrivals?.speed ?? 1) : (level ?? 4));
}

/** A profile that replays a recording. With hashed keys, others have to stand in for them. */
export function replayOf(recording: TrafficRecording): LoadProfile {
  return {
    name: `replay-of-recording-${recording.id}`,
    title: `The traffic of ${recording.namespace}, as it was recorded`,
    namespace: recording.namespace,
    ...(recording.hash_keys ? { keys: [{ hottest: Math.min(256, Math.max(recording.keys, 1)) }] } : {}),
    arrivals: { recording: recording.id, speed: 1 },
  } as LoadProfile;
}
