<script lang="ts">
  import { LogOut, Plus, RefreshCw, Trash2 } from '@lucide/svelte';
  import { onMount } from 'svelte';
  import { api, messageOf, type LiveSession, type Token } from '../lib/api';
  import { parameter, setParameters } from '../lib/address';
  import * as format from '../lib/format';
  import { access as page } from '../lib/pages';
  import * as quantities from '../lib/quantities';
  import { RIGHTS } from '../lib/rights';
  import { signed } from '../lib/session.svelte';
  import DataTable, { type Column } from '../components/DataTable.svelte';
  import Dialog from '../components/Dialog.svelte';
  import Field from '../components/Field.svelte';
  import Heading from '../components/Heading.svelte';
  import Problem from '../components/Problem.svelte';

  let tokens = $state.raw<Token[]>([]);
  let sessions = $state.raw<LiveSession[] | null>(null);
  let places = $state.raw<string[]>([]);
  let problem = $state('');
  let secret = $state('');
  let chosen = $state<Token | null>(null);
  let chosenSession = $state<LiveSession | null>(null);
  let [note, expiresIn, overlap] = $state(['', '90d', '1d']);
  let scopes = $state<string[]>([]);
  let [right, place] = $state<[string, string]>(['read', '']);
  let create: Dialog, rotate: Dialog, revoke: Dialog, end: Dialog;

  const words = $derived(parameter('filter').toLowerCase());
  const all = $derived(parameter('revoked') === 'shown');
  const live = $derived(tokens.filter((t) => !hasEnded(t)));
  const shown = $derived(
    (all ? tokens : live).filter((t) => `${t.id} ${t.note} ${t.scopes.join(' ')}`.toLowerCase().includes(words)),
  );

  function hasEnded(token: Token): boolean {
    return !!token.revoked_at || (!!token.expires_at && Date.parse(token.expires_at) <= Date.now());
  }

  function stateOf(token: Token): string {
    if (token.revoked_at) return `revoked ${format.day(token.revoked_at)}`;
    if (!token.expires_at) return 'until it is revoked';
    return hasEnded(token) ? `expired ${format.day(token.expires_at)}` : `until ${format.moment(token.expires_at)}`;
  }

  async function load() {
    try {
      sessions = await api.sessions();
      if (signed.isAdmin) tokens = await api.tokens();
      problem = '';
    } catch (error) {
      problem = messageOf(error);
    }
  }

  onMount(() => {
    void load();
    const again = setInterval(load, 5_000);
    return () => clearInterval(again);
  });

  async function openCreate() {
    [scopes, note, expiresIn] = [[], '', '90d'];
    try {
      const [tenants, namespaces] = await Promise.all([api.tenants(), api.allNamespaces()]);
      places = [...tenants.map((t) => t.name), ...namespaces.map((n) => `${n.tenant}/${n.name}`)].sort();
      place = places[0] ?? '';
      create.open();
    } catch (error) {
      problem = messageOf(error);
    }
  }

  function add() {
    const scope = right === 'admin' ? 'admin' : `${right}:${place}`;
    if (!scopes.includes(scope)) scopes = [...scopes, scope];
  }

  const tokenColumns: Column<Token>[] = [
    { key: 'id', title: 'Token', value: (t) => t.id },
    { key: 'note', title: 'Note', value: (t) => t.note },
    { key: 'scopes', title: 'Scopes', value: (t) => t.scopes.join(' ') },
    { key: 'valid', title: 'Valid', value: (t) => t.expires_at ?? '9', text: stateOf },
    { key: 'used', title: 'Last used', value: (t) => t.last_used_at, text: (t) => format.moment(t.last_used_at) },
    { key: 'created', title: 'Created', value: (t) => t.created_at, text: (t) => format.day(t.created_at), extra: true },
    { key: 'actions', title: 'Actions', value: () => null, cell: tokenActions, right: true },
  ];

  const sessionColumns: Column<LiveSession>[] = [
    { key: 'who', title: 'Who', value: (s) => s.who, cell: whoCell },
    { key: 'scopes', title: 'Scopes', value: (s) => s.scopes.join(' ') },
    { key: 'began', title: 'Began', value: (s) => s.started_at, text: (s) => format.moment(s.started_at) },
    { key: 'used', title: 'Last used', value: (s) => s.last_used_at, text: (s) => format.moment(s.last_used_at) },
    { key: 'ends', title: 'Ends', value: (s) => s.ends_at, text: (s) => format.moment(s.ends_at) },
    { key: 'actions', title: 'Actions', value: () => null, cell: sessionActions, right: true },
  ];
</script>

{#snippet tokenActions(token: Token)}
  {#if !hasEnded(token)}
    <button class="btn btn-ghost btn-xs btn-square" aria-label="Rotate token {token.id}" onclick={() => ((chosen = token), rotate.open())}>
      <RefreshCw size={16} />
    </button>
    <button class="btn btn-ghost btn-xs btn-square" aria-label="Revoke token {token.id}" onclick={() => ((chosen = token), revoke.open())}>
      <Trash2 size={16} />
    </button>
  {/if}
{/snippet}
{#snippet whoCell(session: LiveSession)}
  {session.who}{#if session.is_own} <span class="badge badge-sm">this session</span>{/if}
{/snippet}
{#snippet sessionActions(session: LiveSession)}
  {#if !session.is_own}
    <button
      class="btn btn-ghost btn-xs btn-square"
      aria-label="End session {session.id} of {session.who}"
      onclick={() => ((chosenSession = session), end.open())}
    >
      <LogOut size={16} />
    </button>
  {/if}
{/snippet}

{#if sessions}
  {#if signed.isAdmin}
    <Heading question={page.question} answer="{format.count(live.length)} token{live.length === 1 ? '' : 's'}">
      {format.count(live.filter((t) => t.scopes.includes('admin')).length)} with the scope admin;
      {format.count(sessions.length)} console session{sessions.length === 1 ? '' : 's'}.
    </Heading>
  {:else}
    <Heading question={page.question} answer={signed.session?.who ?? ''}>
      may {signed.session?.scopes.join(', ')}.
    </Heading>
  {/if}
{:else}
  <Heading question={page.question} answer="…">Loading.</Heading>
{/if}
<Problem message={problem} onretry={load} />

{#if secret}
  <div class="my-3 border-l-4 border-success bg-base-200 p-3" role="status">
    <p class="font-semibold">The token is shown only now. Store it where its service reads it.</p>
    <code class="block py-1 text-sm break-all" data-secret>{secret}</code>
    <button class="btn btn-xs" onclick={() => navigator.clipboard?.writeText(secret)}>Copy</button>
    <button class="btn btn-xs" onclick={() => (secret = '')}>Hide</button>
  </div>
{/if}

{#if signed.isAdmin && sessions}
  <section aria-labelledby="tokens-title">
    <div class="flex flex-wrap items-end gap-3">
      <h2 id="tokens-title" class="font-semibold">Tokens</h2>
      <label class="text-sm font-medium">
        <span class="sr-only">Filter</span>
        <input
          class="input input-sm w-56"
          type="search"
          placeholder="note, scope or number"
          value={parameter('filter')}
          oninput={(e) => setParameters({ filter: e.currentTarget.value })}
        />
      </label>
      <label class="flex items-center gap-2 text-sm">
        <input
          type="checkbox"
          class="checkbox checkbox-sm"
          checked={all}
          onchange={(e) => setParameters({ revoked: e.currentTarget.checked ? 'shown' : '' })}
        /> also those that ended
      </label>
      <span class="grow"></span>
      <button class="btn btn-sm" onclick={openCreate}><Plus size={16} /> Token</button>
    </div>
    <DataTable name="Tokens" columns={tokenColumns} rows={shown} key={(t) => t.id} order="-id">
      {#snippet empty()}No token matches.{/snippet}
    </DataTable>
  </section>
{/if}

{#if sessions}
  <section class="mt-6" aria-labelledby="sessions-title">
    <h2 id="sessions-title" class="font-semibold">Console sessions</h2>
    <DataTable name="Sessions" columns={sessionColumns} rows={sessions} key={(s) => s.id}>
      {#snippet empty()}Nobody is signed in.{/snippet}
    </DataTable>
  </section>
{/if}

<Dialog
  title="Create a token"
  action="Create it"
  wide
  bind:this={create}
  onaction={async () => {
    if (scopes.length === 0) throw new quantities.InvalidField('Add at least one scope.');
    const created = await api.createToken(scopes, note.trim(), quantities.limit(expiresIn, quantities.time));
    secret = created.secret;
    await load();
  }}
>
  <div class="flex flex-wrap items-end gap-2">
    <label class="text-sm font-medium">
      Right
      <select class="select select-sm w-36" bind:value={right}>
        {#each RIGHTS as one (one)}<option>{one}</option>{/each}
        <option>admin</option>
      </select>
    </label>
    {#if right !== 'admin'}
      <label class="text-sm font-medium">
        In
        <select class="select select-sm w-56" bind:value={place}>
          {#each places as path (path)}<option>{path}</option>{/each}
        </select>
      </label>
    {/if}
    <button type="button" class="btn btn-sm" onclick={add}>Add the scope</button>
  </div>
  <ul class="my-3 flex flex-wrap gap-2" aria-label="Scopes">
    {#each scopes as scope (scope)}
      <li>
        <button type="button" class="badge badge-lg" aria-label="Remove {scope}" onclick={() => (scopes = scopes.filter((s) => s !== scope))}>
          {scope} ×
        </button>
      </li>
    {:else}
      <li class="text-sm">No scope yet.</li>
    {/each}
  </ul>
  <div class="grid gap-3 sm:grid-cols-2">
    <Field label="Note" bind:value={note} hint="What it is for" />
    <Field label="Valid for" bind:value={expiresIn} hint="Such as 90d; empty is until it is revoked" />
  </div>
</Dialog>

<Dialog
  title="Rotate token {chosen?.id}?"
  action="Rotate it"
  bind:this={rotate}
  onaction={async () => {
    if (!chosen) return;
    secret = (await api.rotateToken(chosen.id, quantities.time(overlap))).secret;
    await load();
  }}
>
  <p class="mb-3">A new token with the same scopes and note takes over. Both are valid for the overlap.</p>
  <Field label="Overlap" bind:value={overlap} required />
</Dialog>

<Dialog
  title="Revoke token {chosen?.id}?"
  action="Revoke it"
  danger
  bind:this={revoke}
  onaction={async () => {
    if (chosen) await api.revokeToken(chosen.id);
    await load();
  }}
>
  <p>
    {chosen?.note || 'It'} ends within a second, with everything that was begun with it: requests, connections, streams, locks and sessions.
  </p>
</Dialog>

<Dialog
  title="End the session of {chosenSession?.who}?"
  action="End it"
  danger
  bind:this={end}
  onaction={async () => {
    if (chosenSession) await api.endSession(chosenSession.id);
    await load();
  }}
>
  <p>Its browser is signed out immediately. The token stays valid.</p>
</Dialog>
