<script lang="ts">
  import { LogOut, Menu, MoonStar, Sun } from '@lucide/svelte';
  import type { Session } from '../lib/api';
  import * as format from '../lib/format';
  import type { LiveFeed } from '../lib/live-feed.svelte';
  import { pageOf, pages } from '../lib/pages';
  import { route } from '../router';
  import { theme } from '../lib/theme.svelte';

  interface Props {
    session: Session;
    feed: LiveFeed;
    onsignout: () => void;
  }

  let { session, feed, onsignout }: Props = $props();

  const shown = $derived(pageOf(route.pathname));
  const bypassed = $derived((feed.latest?.namespaces ?? []).filter((n) => n.bypass_seconds_left));
  let isOpen = $state(false);

  $effect(() => {
    // A chosen page closes the menu of a small screen.
    void route.pathname;
    isOpen = false;
  });
</script>

<header class="border-b border-base-300">
  <div class="mx-auto max-w-[84rem] px-4 sm:px-6">
    <div class="flex flex-wrap items-center gap-x-4 gap-y-1 pt-3">
    <a href="/" class="flex items-center gap-2 text-xl font-semibold">
      <img src="/mark.svg" alt="" width="26" height="26" />
      Verax
    </a>
    <button
      class="btn btn-ghost btn-sm btn-square sm:hidden"
      aria-label="Pages"
      aria-expanded={isOpen}
      aria-controls="pages"
      onclick={() => (isOpen = !isOpen)}
    >
      <Menu size={20} />
    </button>
    <div class="ml-auto flex items-center gap-4 text-sm">
      <p aria-live="polite">
        {#if !feed.connected}
          <span class="font-semibold text-error">No data from Verax; reconnecting</span>
        {:else if feed.latest && !feed.latest.records_available}
          <span class="font-semibold text-warning">
            MariaDB does not answer: entries are served, changes are refused
          </span>
        {:else if feed.latest}
          up {format.time(feed.latest.uptime_seconds)}
        {/if}
      </p>
      <span class="max-w-56 truncate" title={session.scopes.join(', ')}>{session.who}</span>
      <button
        class="btn btn-ghost btn-sm btn-square"
        onclick={() => theme.toggle()}
        aria-label={theme.name === 'chart-day' ? 'Use dark colors' : 'Use light colors'}
      >
        {#if theme.name === 'chart-day'}<MoonStar size={18} />{:else}<Sun size={18} />{/if}
      </button>
      <button class="btn btn-ghost btn-sm btn-square" onclick={onsignout} aria-label="Sign out">
        <LogOut size={18} />
      </button>
    </div>
    </div>
    <nav id="pages" aria-label="Pages" class="{isOpen ? 'flex' : 'hidden'} flex-col gap-x-6 sm:flex sm:flex-row">
      {#each pages as { path, name } (path)}
        {@const current = shown?.path === path}
        <a
          href={path}
          aria-current={current ? 'page' : undefined}
          class="border-l-4 py-1 pl-2 sm:border-b-4 sm:border-l-0 sm:pb-2 sm:pl-0 {current
            ? 'border-primary font-semibold'
            : 'border-transparent hover:border-base-300'}"
        >
          {name}
        </a>
      {/each}
    </nav>
  </div>
  {#if bypassed.length > 0}
    <p class="bg-warning px-4 py-2 text-center font-semibold text-warning-content sm:px-6" role="status" data-bypass>
      The cache is bypassed:
      {#each bypassed as n, at (`${n.tenant}/${n.name}`)}
        {at > 0 ? ', ' : ''}<a class="underline" href="/tenants/{n.tenant}/{n.name}">{n.tenant}/{n.name}</a>
        for another {format.time(n.bypass_seconds_left ?? 0)}
      {/each}
    </p>
  {/if}
</header>
