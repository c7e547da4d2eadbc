<script lang="ts">
  import type { Snippet } from 'svelte';

  interface Props {
    /** The question that the page answers. */
    question: string;
    /** The short answer. */
    answer: string;
    /** Whether the answer is good news. */
    good?: boolean;
    children: Snippet;
  }

  let { question, answer, good = true, children }: Props = $props();
</script>

<svelte:head><title>{question} · Verax</title></svelte:head>

<div class="mt-4 mb-3">
  <h1 class="text-sm font-medium">{question}</h1>
  <div class="flex flex-wrap items-baseline gap-x-4 gap-y-1" aria-live="polite">
    <p class="text-3xl font-semibold {good ? '' : 'text-error'}" data-answer>{answer}</p>
    <p class="text-lg">{@render children()}</p>
  </div>
</div>
