/** Where the console is, for pages: the router imports the pages, so they cannot import the router. */
interface Route {
  parameters(): Record<string, string | undefined>;
  navigate(path: `/${string}`): void;
}

let current: Route | undefined;

/** Called once by the router. */
export function provideRoute(route: Route) {
  current = route;
}

/** A part of the page's address that its pattern names, such as `tenant`. */
export function pathParameter(name: string): string {
  return current?.parameters()[name] ?? '';
}

export function goTo(path: `/${string}`) {
  current?.navigate(path);
}
