<script lang="ts">
  import type { Snippet } from 'svelte';

  interface Props {
    /** The short answer to the page's question. */
    short: string;
    /** Whether all is as it should be. */
    good?: boolean;
    children: Snippet;
  }

  let { short, good = true, children }: Props = $props();
</script>

<div class="my-4 flex flex-wrap items-baseline gap-x-4 gap-y-1">
  <h1 class="text-3xl font-semibold {good ? '' : 'text-error'}">{short}</h1>
  <p class="text-lg">{@render children()}</p>
</div>
