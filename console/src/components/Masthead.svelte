<script lang="ts">
  import { LogOut, MoonStar, Sun } from '@lucide/svelte';
  import type { Session } from '../lib/api';
  import * as format from '../lib/format';
  import type { LiveFeed } from '../lib/live-feed.svelte';
  import { pageOf, pages } from '../lib/pages';
  import { route } from '../lib/route.svelte';
  import { theme } from '../lib/theme.svelte';

  interface Props {
    session: Session;
    feed: LiveFeed;
    onsignout: () => void;
  }

  let { session, feed, onsignout }: Props = $props();

  const shown = $derived(pageOf(route.path));

  function go(event: MouseEvent, path: string) {
    // A new tab is the browser's business.
    if (event.metaKey || event.ctrlKey || event.shiftKey || event.button !== 0) return;
    event.preventDefault();
    route.go(path);
  }
</script>

<header class="border-b border-base-300">
  <div class="mx-auto flex max-w-[84rem] flex-wrap items-end gap-x-8 gap-y-2 px-6 pt-4">
    <a href="/" onclick={(e) => go(e, '/')} class="flex items-center gap-2 pb-3 text-xl font-semibold">
      <img src="/mark.svg" alt="" width="26" height="26" />
      Verax
    </a>
    <nav aria-label="Pages" class="flex gap-6">
      {#each pages as { path, name } (path)}
        {@const current = shown.path === path}
        <a
          href={path}
          onclick={(e) => go(e, path)}
          aria-current={current ? 'page' : undefined}
          class="border-b-4 pb-2 {current
            ? 'border-primary font-semibold'
            : 'border-transparent hover:border-base-300'}"
        >
          {name}
        </a>
      {/each}
    </nav>
    <div class="ml-auto flex items-center gap-4 pb-2 text-sm">
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
</header>
