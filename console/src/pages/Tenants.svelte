<script lang="ts">
  import { Gauge, Plus, Trash2 } from '@lucide/svelte';
  import { onMount } from 'svelte';
  import { api, messageOf, type Namespace, type Tenant } from '../lib/api';
  import * as format from '../lib/format';
  import { tenants as page } from '../lib/pages';
  import { parameter, setParameters } from '../lib/address';
  import { feed, signed } from '../lib/session.svelte';
  import DataTable, { type Column } from '../components/DataTable.svelte';
  import Dialog from '../components/Dialog.svelte';
  import Field from '../components/Field.svelte';
  import Heading from '../components/Heading.svelte';
  import MemoryDivision from '../components/MemoryDivision.svelte';
  import Problem from '../components/Problem.svelte';
  import QuotaDialog from '../components/QuotaDialog.svelte';
  import UsageHistory from '../components/UsageHistory.svelte';
  import Use from '../components/Use.svelte';

  let tenants = $state.raw<Tenant[] | null>(null);
  let namespaces = $state.raw<Namespace[]>([]);
  let problem = $state('');
  let name = $state('');
  let place = $state('');
  let chosenTenant = $state('');
  let createTenant: Dialog, createNamespace: Dialog, removeTenant: Dialog, quota: QuotaDialog;

  const filter = $derived(parameter('filter').toLowerCase());
  const shownTenants = $derived((tenants ?? []).filter((t) => t.name.includes(filter)));
  const shownNamespaces = $derived(
    namespaces.filter((n) => `${n.tenant}/${n.name}`.includes(filter)),
  );
  /** The tenant that the page is filtered to. */
  const usageOf = $derived((tenants ?? []).find((t) => t.name === filter && signed.may('observe', t.name))?.name);
  const limit = $derived(feed.latest?.memory_limit_bytes);
  const reserved = $derived(
    (tenants ?? []).reduce(
      (sum, t) => sum + Math.max(t.quota?.reserve_bytes ?? 0, t.usage?.reserved_bytes ?? 0),
      0,
    ),
  );
  const mayCreate = $derived((tenants ?? []).filter((t) => signed.may('manage', t.name)));

  async function load() {
    try {
      [tenants, namespaces] = await Promise.all([api.tenants(), api.allNamespaces()]);
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

  const tenantColumns: Column<Tenant>[] = [
    { key: 'tenant', title: 'Tenant', value: (t) => t.name, cell: tenantCell },
    { key: 'namespaces', title: 'Namespaces', value: (t) => t.usage?.namespaces, right: true, cell: namespacesCell },
    { key: 'entries', title: 'Entries', value: (t) => t.usage?.entries, right: true, cell: entriesCell },
    { key: 'memory', title: 'Memory', value: (t) => t.usage?.bytes, right: true, cell: memoryCell },
    {
      key: 'reserve',
      title: 'Reserve',
      value: (t) => t.quota?.reserve_bytes,
      text: (t) => (t.quota?.reserve_bytes ? format.bytes(t.quota.reserve_bytes) : format.NONE),
      right: true,
    },
    {
      key: 'requests',
      title: 'Max requests',
      value: (t) => t.quota?.requests_per_second,
      text: (t) => (t.quota?.requests_per_second ? format.rate(t.quota.requests_per_second) : format.NONE),
      right: true,
    },
    {
      key: 'bytes',
      title: 'Max bytes',
      value: (t) => t.quota?.bytes_per_second,
      text: (t) => (t.quota?.bytes_per_second ? `${format.bytes(t.quota.bytes_per_second)}/s` : format.NONE),
      right: true,
      extra: true,
    },
    { key: 'connections', title: 'Connections', value: (t) => t.usage?.connections, right: true, cell: connectionsCell },
    {
      key: 'refused',
      title: 'Refused',
      value: (t) => t.usage?.refused,
      text: (t) => (t.usage ? format.count(t.usage.refused) : format.NONE),
      right: true,
    },
    {
      key: 'created',
      title: 'Created',
      value: (t) => t.created_at,
      text: (t) => format.day(t.created_at),
      extra: true,
    },
    { key: 'actions', title: 'Actions', value: () => null, cell: actionsCell, right: true },
  ];

  const namespaceColumns: Column<Namespace>[] = [
    { key: 'namespace', title: 'Namespace', value: (n) => `${n.tenant}/${n.name}`, cell: namespaceCell },
    { key: 'entries', title: 'Entries', value: (n) => n.usage.entries, right: true, text: (n) => format.count(n.usage.entries) },
    { key: 'memory', title: 'Memory', value: (n) => n.usage.bytes, right: true, cell: namespaceMemoryCell },
    {
      key: 'reserve',
      title: 'Reserve',
      value: (n) => n.policy.reserve_bytes,
      text: (n) => (n.policy.reserve_bytes ? format.bytes(n.policy.reserve_bytes) : format.NONE),
      right: true,
    },
    {
      key: 'max-age',
      title: 'Max-age',
      value: (n) => n.policy.max_age_seconds,
      text: (n) => format.time(n.policy.max_age_seconds),
      right: true,
    },
    { key: 'origin', title: 'Origin', value: (n) => n.policy.origin?.name },
    { key: 'browse', title: 'Browse', value: () => null, cell: browseCell, right: true },
  ];
</script>

{#snippet tenantCell(t: Tenant)}
  <button class="link link-hover font-medium" onclick={() => setParameters({ filter: t.name })}>{t.name}</button>
{/snippet}
{#snippet namespacesCell(t: Tenant)}
  {#if t.usage}<Use used={t.usage.namespaces} limit={t.quota?.max_namespaces} write={format.count} label="Namespaces of {t.name}" />{:else}–{/if}
{/snippet}
{#snippet entriesCell(t: Tenant)}
  {#if t.usage}<Use used={t.usage.entries} limit={t.quota?.max_entries} write={format.count} label="Entries of {t.name}" />{:else}–{/if}
{/snippet}
{#snippet memoryCell(t: Tenant)}
  {#if t.usage}
    <Use used={t.usage.bytes} limit={t.quota?.cap_bytes} write={format.bytes} label="Memory of {t.name}" />
    {#if t.usage.excess_bytes > 0}<br />shrinking, {format.bytes(t.usage.excess_bytes)} to go{/if}
  {:else}–{/if}
{/snippet}
{#snippet connectionsCell(t: Tenant)}
  {#if t.usage}<Use used={t.usage.connections} limit={t.quota?.max_connections} write={format.count} label="Connections of {t.name}" />{:else}–{/if}
{/snippet}
{#snippet actionsCell(t: Tenant)}
  {#if signed.isAdmin}
    <button class="btn btn-ghost btn-xs btn-square" aria-label="Change the quota of {t.name}" onclick={() => quota.open(t.name)}>
      <Gauge size={16} />
    </button>
    <button
      class="btn btn-ghost btn-xs btn-square"
      aria-label="Delete tenant {t.name}"
      onclick={() => ((chosenTenant = t.name), removeTenant.open())}
    >
      <Trash2 size={16} />
    </button>
  {/if}
{/snippet}
{#snippet namespaceCell(n: Namespace)}
  <a class="link link-hover" href="/tenants/{n.tenant}/{n.name}">{n.tenant}/{n.name}</a>
{/snippet}
{#snippet namespaceMemoryCell(n: Namespace)}
  <Use used={n.usage.bytes} limit={n.policy.cap_bytes} write={format.bytes} label="Memory of {n.tenant}/{n.name}" />
{/snippet}
{#snippet browseCell(n: Namespace)}
  {#if signed.may('read', n.tenant, n.name)}
    <a class="link" href="/entries?namespace={encodeURIComponent(`${n.tenant}/${n.name}`)}">entries</a>
  {/if}
{/snippet}

{#if tenants}
  <Heading question={page.question} answer="{format.count(tenants.length)} tenant{tenants.length === 1 ? '' : 's'}">
    with {format.count(namespaces.length)} namespace{namespaces.length === 1 ? '' : 's'}{#if limit}; {format.bytes(reserved)}
      of {format.bytes(limit)} reserved{/if}.
  </Heading>
{:else}
  <Heading question={page.question} answer="…">Loading.</Heading>
{/if}
<Problem message={problem} onretry={load} />

<div class="flex flex-wrap items-end gap-3">
  <label class="text-sm font-medium">
    Filter
    <input
      class="input input-sm w-56"
      type="search"
      placeholder="part of a name"
      value={parameter('filter')}
      oninput={(e) => setParameters({ filter: e.currentTarget.value })}
    />
  </label>
  <span class="grow"></span>
  {#if signed.isAdmin}
    <button class="btn btn-sm" onclick={() => createTenant.open()}><Plus size={16} /> Tenant</button>
  {/if}
  {#if mayCreate.length > 0}
    <button class="btn btn-sm" onclick={() => ((place = mayCreate.find((t) => t.name === filter)?.name ?? mayCreate[0]?.name ?? ''), createNamespace.open())}>
      <Plus size={16} /> Namespace
    </button>
  {/if}
</div>

{#if tenants}
  <section class="mt-4" aria-labelledby="tenants-title">
    <h2 id="tenants-title" class="font-semibold">Tenants: use against quota</h2>
    <DataTable name="Tenants" columns={tenantColumns} rows={shownTenants} key={(t) => t.name} order="-memory">
      {#snippet empty()}
        {#if tenants?.length}No tenant has “{filter}” in its name.{:else}
          There are no tenants yet. Create one here or with <code>verax tenant create NAME</code>.{/if}
      {/snippet}
    </DataTable>
  </section>
  <section class="mt-6" aria-labelledby="namespaces-title">
    <h2 id="namespaces-title" class="font-semibold">Namespaces</h2>
    <DataTable
      name="Namespaces"
      columns={namespaceColumns}
      rows={shownNamespaces}
      key={(n) => `${n.tenant}/${n.name}`}
      order="-memory"
    >
      {#snippet empty()}There is no namespace{filter ? ` with “${filter}” in its name` : ' yet'}.{/snippet}
    </DataTable>
  </section>
{/if}

{#if namespaces.some((n) => signed.may('observe', n.tenant, n.name))}
  <MemoryDivision {filter} />
{/if}

{#if usageOf}
  <UsageHistory tenant={usageOf} />
{:else if signed.isAdmin && !filter}
  <UsageHistory />
{/if}

<Dialog
  title="Create a tenant"
  action="Create it"
  bind:this={createTenant}
  onaction={async () => {
    await api.createTenant(name.trim());
    name = '';
    await load();
  }}
>
  <Field label="Name" bind:value={name} hint="1 to 63 lower-case letters, digits and hyphens" required />
</Dialog>

<Dialog
  title="Create a namespace"
  action="Create it"
  bind:this={createNamespace}
  onaction={async () => {
    await api.createNamespace(place, name.trim(), {});
    name = '';
    await load();
  }}
>
  <label class="text-sm font-medium" for="create-in">Tenant</label>
  <select id="create-in" class="select select-sm mb-3 w-full" bind:value={place}>
    {#each mayCreate as t (t.name)}<option>{t.name}</option>{/each}
  </select>
  <Field label="Name" bind:value={name} hint="Its policy is changed on its page." required />
</Dialog>

<Dialog
  title="Delete tenant {chosenTenant}?"
  action="Delete it"
  danger
  bind:this={removeTenant}
  onaction={async () => {
    await api.deleteTenant(chosenTenant);
    await load();
  }}
>
  <p>It must own no namespace and no origin. Its tokens lose their scopes in it.</p>
</Dialog>

<QuotaDialog bind:this={quota} onchanged={load} />
