<script lang="ts">
  import { onMount } from 'svelte';
  import { Router } from 'sv-router';
  import { ApiError, api } from './lib/api';
  import { feed, signed } from './lib/session.svelte';
  import Masthead from './components/Masthead.svelte';
  import SignIn from './pages/SignIn.svelte';
  import Standby from './pages/Standby.svelte';
  import './router';

  let asked = $state(false);
  let unreachable = $state('');

  async function ask() {
    try {
      signed.session = await api.session();
      unreachable = '';
    } catch (error) {
      signed.session = null;
      if (!(error instanceof ApiError)) unreachable = 'Verax does not answer. Is it running?';
    }
    asked = true;
  }

  async function signOut() {
    await api.signOut().catch(() => undefined);
    signed.session = null;
  }

  onMount(() => {
    // A sign-in link is used even where an older session still stands.
    if (location.pathname === '/sign-in' && location.hash.length > 1) asked = true;
    else void ask();
  });

  $effect(() => {
    if (signed.session) feed.start();
    else feed.stop();
    return () => feed.stop();
  });
</script>

{#if !asked}
  <p class="p-8" aria-live="polite">Loading …</p>
{:else if !signed.session}
  <SignIn
    notice={unreachable}
    onsignedin={(session) => {
      // Whoever followed a link to a page gets that page; the router starts where the address is.
      if (location.pathname === '/sign-in') history.replaceState(null, '', '/');
      signed.session = session;
    }}
  />
{:else}
  <Masthead session={signed.session} {feed} onsignout={signOut} />
  <main class="mx-auto max-w-[84rem] px-4 pb-8 sm:px-6">
    {#if feed.latest?.role === 'standby'}
      <Standby {feed} />
    {:else}
      <Router />
    {/if}
  </main>
{/if}
