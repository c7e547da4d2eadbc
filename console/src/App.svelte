<script lang="ts">
  import { onMount } from 'svelte';
  import { ApiError, api, type Session } from './lib/api';
  import { LiveFeed } from './lib/live-feed.svelte';
  import { drills, load, pageOf, waiting } from './lib/pages';
  import { route } from './lib/route.svelte';
  import Drills from './pages/Drills.svelte';
  import Load from './pages/Load.svelte';
  import Overview from './pages/Overview.svelte';
  import Standby from './pages/Standby.svelte';
  import SignIn from './pages/SignIn.svelte';
  import Waiting from './pages/Waiting.svelte';
  import Masthead from './components/Masthead.svelte';

  const page = $derived(pageOf(route.path));
  let session = $state<Session | null>(null);
  let asked = $state(false);
  let unreachable = $state('');
  const feed = new LiveFeed(() => (session = null));

  async function ask() {
    try {
      session = await api.session();
      unreachable = '';
    } catch (error) {
      session = null;
      if (!(error instanceof ApiError)) unreachable = 'Verax does not answer. Is it running?';
    }
    asked = true;
  }

  async function signOut() {
    await api.signOut().catch(() => undefined);
    session = null;
  }

  onMount(() => {
    // A sign-in link is used even where an older session still stands.
    if (route.path === '/sign-in' && location.hash.length > 1) asked = true;
    else void ask();
  });

  $effect(() => {
    if (session) feed.start();
    else feed.stop();
    return () => feed.stop();
  });
</script>

{#if !asked}
  <p class="p-8" aria-live="polite">Loading …</p>
{:else if !session}
  <SignIn notice={unreachable} onsignedin={(s) => ((session = s), route.go('/'))} />
{:else}
  <Masthead {session} {feed} onsignout={signOut} />
  <main class="mx-auto max-w-[84rem] px-6 pb-8">
    {#if feed.latest?.role === 'standby'}
      <Standby {feed} />
    {:else if page === load}
      <Load {feed} />
    {:else if page === waiting}
      <Waiting />
    {:else if page === drills}
      <Drills />
    {:else}
      <Overview {feed} />
    {/if}
  </main>
{/if}
