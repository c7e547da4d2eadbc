<script lang="ts">
  /** What went wrong, with a way to try again. */
  interface Props {
    message: string;
    onretry?: () => void;
  }

  let { message, onretry }: Props = $props();
</script>

{#if message}
  <p class="my-2 font-medium text-error" role="alert">
    {message}
    {#if onretry}<button class="btn btn-xs ml-2" onclick={onretry}>Try again</button>{/if}
  </p>
{/if}
