<script lang="ts">
  /** What is used of a limit: a figure, and a bar where there is a limit. */
  interface Props {
    used: number;
    limit: number | null | undefined;
    write: (n: number) => string;
    label: string;
  }

  let { used, limit, write, label }: Props = $props();
  const share = $derived(limit ? Math.min(used / limit, 1) : 0);
</script>

<span class="inline-flex items-center gap-2 whitespace-nowrap">
  {#if limit}
    <progress
      class="progress w-14 {share >= 0.9 ? 'progress-warning' : 'progress-primary'}"
      value={share * 100}
      max="100"
      aria-label="{label}: {write(used)} of {write(limit)}"
    ></progress>
    {write(used)} of {write(limit)}
  {:else}
    {write(used)}
  {/if}
</span>
