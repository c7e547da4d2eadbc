<script lang="ts">
  import { CircleCheck, CircleDashed, CircleX } from '@lucide/svelte';
  import type { Origin } from '../lib/api';
  import * as format from '../lib/format';

  let { origins }: { origins: Origin[] } = $props();

  const WORDS: Record<string, string> = {
    closed: 'healthy',
    'half-open': 'probing',
    open: 'circuit open',
  };

  /** The server without its scheme and user. */
  function place(url: string): string {
    return url.replace(/^https?:\/\//, '').replace(/^mysql:\/\/[^@]*@/, '');
  }
</script>

<table class="table table-xs text-sm">
  <thead>
    <tr class="text-base-content">
      <th scope="col">Origin</th>
      <th scope="col">Servers</th>
      <th scope="col" class="text-right">In flight</th>
      <th scope="col" class="text-right">Max concurrency</th>
      <th scope="col" class="text-right">Queued</th>
    </tr>
  </thead>
  <tbody>
    {#each origins as origin (`${origin.tenant}/${origin.name}`)}
      <tr>
        <th scope="row">
          {origin.tenant}/{origin.name}
          {#if origin.sql}<span class="font-normal">query</span>{/if}
        </th>
        <td>
          <ul class="flex flex-wrap gap-x-5">
            {#each origin.endpoints as server (server.url)}
              <li class="flex items-center gap-1 {server.breaker === 'closed' ? '' : 'font-semibold text-error'}">
                {#if server.breaker === 'closed'}
                  <CircleCheck size={14} aria-hidden="true" />
                {:else if server.breaker === 'open'}
                  <CircleX size={14} aria-hidden="true" />
                {:else}
                  <CircleDashed size={14} aria-hidden="true" />
                {/if}
                {place(server.url)}
                {WORDS[server.breaker] ?? server.breaker}
              </li>
            {/each}
          </ul>
        </td>
        <td class="text-right">{format.count(origin.reads_in_flight)}</td>
        <td class="text-right">{format.count(origin.guard.max_concurrency)}</td>
        <td class="text-right">{format.count(origin.reads_queued)}</td>
      </tr>
    {/each}
  </tbody>
</table>
