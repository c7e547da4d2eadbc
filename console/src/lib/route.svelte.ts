/** Which page is shown; the browser's own history, nothing more. */
class Route {
  path = $state(location.pathname);

  constructor() {
    window.addEventListener('popstate', () => (this.path = location.pathname));
  }

  go(path: string) {
    if (path !== location.pathname || location.hash) history.pushState(null, '', path);
    this.path = path;
  }
}

export const route = new Route();
