<script lang="ts">
  import { onMount } from 'svelte';
  import { api, messageOf, type Session } from '../lib/api';

  interface Props {
    notice: string;
    onsignedin: (session: Session) => void;
  }

  let { notice, onsignedin }: Props = $props();
  let token = $state('');
  let error = $state('');
  let busy = $state(false);

  async function enter(by: () => Promise<Session>) {
    busy = true;
    error = '';
    try {
      onsignedin(await by());
    } catch (problem) {
      error = messageOf(problem);
    }
    busy = false;
  }

  function enterByLink() {
    const code = location.hash.slice(1);
    if (location.pathname !== '/sign-in' || !code) return;
    // Out of the address bar and the history at once; it works only once anyway.
    history.replaceState(null, '', '/sign-in');
    void enter(() => api.signInByCode(code));
  }

  onMount(() => {
    enterByLink();
    // A link that is opened where this page is shown already changes only the fragment.
    window.addEventListener('hashchange', enterByLink);
    return () => window.removeEventListener('hashchange', enterByLink);
  });

  function submit(event: SubmitEvent) {
    event.preventDefault();
    void enter(() => api.signInByToken(token.trim()));
  }
</script>

<svelte:head><title>Sign in · Verax</title></svelte:head>

<main class="mx-auto mt-24 w-full max-w-md px-6">
  <h1 class="flex items-center gap-3 text-3xl font-semibold">
    <img src="/mark.svg" alt="" width="36" height="36" /> Verax
  </h1>
  <p class="mt-6">
    Open a sign-in link: the service prints one when it starts, and <code>verax sign-in</code> makes
    a new one. Or paste an access token.
  </p>
  <form class="mt-4 flex flex-col gap-3" onsubmit={submit}>
    <label class="flex flex-col gap-1">
      <span class="text-sm font-medium">Access token</span>
      <input
        class="input w-full"
        type="password"
        name="token"
        autocomplete="current-password"
        spellcheck="false"
        bind:value={token}
        required
      />
    </label>
    <button class="btn btn-primary self-start" disabled={busy || !token.trim()}>
      {busy ? 'Signing in …' : 'Sign in'}
    </button>
  </form>
  <p class="mt-4 min-h-12 text-error" role="alert">{error || notice}</p>
</main>
