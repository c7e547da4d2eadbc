<script lang="ts">
  import { api, messageOf, type Node } from '../lib/api';
  import type { LiveFeed } from '../lib/live-feed.svelte';
  import Heading from '../components/Heading.svelte';

  let { feed }: { feed: LiveFeed } = $props();

  let nodes = $state.raw<Node[] | null>(null);
  let error = $state('');
  const active = $derived(nodes?.find((node) => node.state === 'active'));
  // The feed tells when the nodes have changed; then they are fetched again.
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
      error = messageOf(problem);
    }
  }
</script>

<Heading
  question="Which node is active?"
  answer={!nodes ? '…' : active ? 'Another one' : 'Taking over'}
  good={!nodes || Boolean(active)}
>
  {#if !nodes}
    Loading.
  {:else if active}
    This node is a standby and serves no entries. The active node{#if active.http} is <a class="link" href={active.http}>{active.http}</a
      >{:else}&nbsp;did not announce its address{/if}. When it ends, this one takes over within five
    seconds, with an empty cache.
  {:else}
    No node is active. This one takes over as soon as that is certain.
  {/if}
</Heading>

<section class="overflow-x-auto" aria-labelledby="nodes-title">
  <h2 id="nodes-title" class="font-semibold">Nodes</h2>
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
          <td>{node.http || 'unknown'}</td>
          <td>{node.wire || 'unknown'}</td>
          <td>{node.version}</td>
        </tr>
      {/each}
    </tbody>
  </table>
  <p class="mt-2 min-h-6 text-error" role="alert">{error}</p>
</section>
