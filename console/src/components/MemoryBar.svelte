<script lang="ts">
  import type { LiveSample } from '../lib/api';
  import * as format from '../lib/format';

  let { sample }: { sample: LiveSample } = $props();

  const used = $derived(
    sample.memory_bytes ?? sample.namespaces.reduce((sum, n) => sum + n.bytes, sample.others?.bytes ?? 0),
  );
  const limit = $derived(sample.memory_limit_bytes ?? used);
  const largest = $derived(
    [...sample.namespaces].filter((n) => n.bytes > 0).sort((a, b) => b.bytes - a.bytes),
  );
  // Stripes of one ink, light and dark in turn, with the name below: nothing rests on hue.
  const shade = (at: number) => 0.9 - (at % 4) * 0.2;
</script>

<div class="flex items-baseline justify-between">
  <h2 class="font-semibold">Memory by namespace, against the limit</h2>
  <p class="text-sm">
    {format.bytes(used)} of {format.bytes(limit)} ({format.share(limit ? used / limit : null)})
  </p>
</div>
<svg
  class="mt-2 h-5 w-full bg-base-200"
  role="img"
  aria-label="Memory: {largest.map((n) => `${n.tenant}/${n.name} ${format.bytes(n.bytes)}`).join(', ')}"
  preserveAspectRatio="none"
  viewBox="0 0 1000 10"
>
  {#each largest as n, at (n.tenant + '/' + n.name)}
    {@const before = largest.slice(0, at).reduce((sum, m) => sum + m.bytes, 0)}
    <rect
      x={(before / Math.max(limit, used, 1)) * 1000}
      width={Math.max((n.bytes / Math.max(limit, used, 1)) * 1000 - (limit > 50 * n.bytes ? 0 : 2), 0.5)}
      height="10"
      fill="var(--color-primary)"
      fill-opacity={shade(at)}
    >
      <title>{n.tenant}/{n.name}: {format.bytes(n.bytes)}</title>
    </rect>
  {/each}
</svg>
