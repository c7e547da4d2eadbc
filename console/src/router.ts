/** Which component shows which page. */
import type { Component } from 'svelte';
import { createRouter, type Routes } from 'sv-router';
import type { pages } from './lib/pages';
import { provideRoute } from './lib/route';
import Access from './pages/Access.svelte';
import Activity from './pages/Activity.svelte';
import Drills from './pages/Drills.svelte';
import Entries from './pages/Entries.svelte';
import Hot from './pages/Hot.svelte';
import Load from './pages/Load.svelte';
import Namespace from './pages/Namespace.svelte';
import NoSuchPage from './pages/NoSuchPage.svelte';
import Overview from './pages/Overview.svelte';
import Tenants from './pages/Tenants.svelte';
import Waiting from './pages/Waiting.svelte';
import Warming from './pages/Warming.svelte';

// Every page of the list has a component, or this does not compile.
const byPath: Record<(typeof pages)[number]['path'], Component> = {
  '/': Overview,
  '/tenants': Tenants,
  '/entries': Entries,
  '/hot': Hot,
  '/waiting': Waiting,
  '/warming': Warming,
  '/activity': Activity,
  '/access': Access,
  '/load': Load,
  '/drills': Drills,
};

const routes: Routes = {
  ...byPath,
  '/tenants/:tenant/:namespace': Namespace,
  '*': NoSuchPage,
};

const router = createRouter(routes);

export const { route } = router;

provideRoute({
  parameters: () => router.route.params,
  navigate: (path) => void router.navigate(path),
});
