<script lang="ts">
  import { api, words, type Node } from '../lib/api';
  import type { LiveFeed } from '../lib/live.svelte';
  import Answer from '../parts/Answer.svelte';

  let { feed }: { feed: LiveFeed } = $props();

  let nodes = $state.raw<Node[] | null>(null);
  let error = $state('');
  const active = $derived(nodes?.find((node) => node.state === 'active'));
  // The feed tells when something about the nodes has changed; then they are asked for anew.
  const shape = $derived(`${feed.latest?.role} ${feed.latest?.standbys} ${feed.latest?.away}`);

  $effect(() => {
    void shape;
    void ask();
  });

  async function ask() {
    try {
      nodes = await api.nodes();
      error = '';
    } catch (problem) {
      error = words(problem);
    }
  }
</script>

<svelte:head><title>This Verax stands by · Verax</title></svelte:head>

<Answer short={!nodes ? '…' : active ? 'It stands by' : 'Taking over'} good={!nodes || Boolean(active)}>
  {#if !nodes}
    Asking which Verax is active.
  {:else if active}
    Another Verax is active{#if active.http}: <a class="link" href={active.http}>{active.http}</a
      >{/if}. This one serves no entries. When that one ends, this one takes over within five seconds,
    with an empty cache.
  {:else}
    No Verax is active at the moment. This one takes over as soon as that is certain.
  {/if}
</Answer>

<section class="overflow-x-auto" aria-labelledby="nodes-title">
  <h2 id="nodes-title" class="font-semibold">Who uses these records?</h2>
  <table class="table">
    <thead>
      <tr class="text-base-content">
        <th scope="col">Node</th>
        <th scope="col">State</th>
        <th scope="col">HTTP</th>
        <th scope="col">Wire</th>
        <th scope="col">Version</th>
      </tr>
    </thead>
    <tbody>
      {#each nodes ?? [] as node (node.id)}
        <tr>
          <td class="font-mono">{node.id.slice(0, 8)}{node.this ? ' (this one)' : ''}</td>
          <td class={node.state === 'away' ? 'text-error' : ''}>{node.state}</td>
          <td>{node.http || 'not told'}</td>
          <td>{node.wire || 'not told'}</td>
          <td>{node.version}</td>
        </tr>
      {/each}
    </tbody>
  </table>
  <p class="mt-2 min-h-6 text-error" role="alert">{error}</p>
</section>
