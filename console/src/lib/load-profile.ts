/** Load profiles as text: TOML, as in files. */
import { parse, stringify, TomlError } from 'smol-toml';
import type { LoadProfile } from './api';
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
