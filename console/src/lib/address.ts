/** Filters and choices in the address, so that reload, bookmarks and links keep them. */
import { searchParams } from 'sv-router';

/** A parameter of the address; empty when it is not there. */
export function parameter(name: string): string {
  // As text: a key `007` is no number.
  return searchParams.toURLSearchParams().get(name) ?? '';
}

/** Sets parameters; empty ones are left out. */
export function setParameters(values: Record<string, string>) {
  for (const [name, value] of Object.entries(values)) {
    if (value === '') searchParams.delete(name);
    else searchParams.set(name, value);
  }
}
