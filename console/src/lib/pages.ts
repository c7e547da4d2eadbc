/** The one list of pages: where each is, what the navigation calls it, which question it answers. */
export interface Page {
  path: string;
  /** A short noun, for the navigation. */
  name: string;
  /** The question, for the heading and the title. */
  question: string;
}

export const overview: Page = { path: '/', name: 'Overview', question: 'Is it healthy?' };
export const waiting: Page = { path: '/waiting', name: 'Waiting', question: 'Who is waiting for what?' };
export const load: Page = { path: '/load', name: 'Load', question: 'How much faster is it?' };
export const drills: Page = { path: '/drills', name: 'Drills', question: 'What does it guarantee?' };

/** In the order of the navigation. */
export const pages: Page[] = [overview, waiting, load, drills];

/** The page of a path; the overview for paths that no page has. */
export function pageOf(path: string): Page {
  return pages.find((page) => page.path === path) ?? overview;
}
