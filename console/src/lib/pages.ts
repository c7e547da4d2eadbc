/** The one list of pages: where each is, what the navigation calls it, which question it answers. */
export interface Page {
  path: `/${string}`;
  /** A short noun, for the navigation. */
  name: string;
  /** The question, for the heading and the title. */
  question: string;
}

export const overview = { path: '/', name: 'Overview', question: 'Is it healthy?' } as const;
export const tenants = { path: '/tenants', name: 'Tenants', question: 'Who uses what?' } as const;
export const entries = { path: '/entries', name: 'Entries', question: 'What is stored?' } as const;
export const hot = { path: '/hot', name: 'Hot keys', question: 'What is hot?' } as const;
export const warming = {
  path: '/warming',
  name: 'Warming',
  question: 'What is being warmed?',
} as const;
export const waiting = {
  path: '/waiting',
  name: 'Waiting',
  question: 'Who is waiting for what?',
} as const;
export const activity = { path: '/activity', name: 'Activity', question: 'Who changed what?' } as const;
export const access = { path: '/access', name: 'Access', question: 'Who may do what?' } as const;
export const load = { path: '/load', name: 'Load', question: 'How much faster is it?' } as const;
export const drills = { path: '/drills', name: 'Drills', question: 'What does it guarantee?' } as const;

/** In the order of the navigation. */
export const pages = [
  overview,
  tenants,
  entries,
  hot,
  waiting,
  warming,
  load,
  drills,
  activity,
  access,
] as const;

/** The page that a path belongs to: its own, or the one above it; `undefined` for none. */
export function pageOf(path: string): Page | undefined {
  const [, first] = path.split('/');
  return pages.find((page) => page.path === `/${first}`);
}
