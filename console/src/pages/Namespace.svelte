<script lang="ts">
  import { onMount } from 'svelte';
  import { api, messageOf, type Namespace, type Origin, type Policy, type PolicyChange } from '../lib/api';
  import * as format from '../lib/format';
  import { intervals, intervalsText } from '../lib/intervals';
  import * as quantities from '../lib/quantities';
  import { goTo, pathParameter } from '../lib/route';
  import { feed, signed } from '../lib/session.svelte';
  import Chart from '../components/Chart.svelte';
  import Dialog from '../components/Dialog.svelte';
  import DamagedValues from '../components/DamagedValues.svelte';
  import Field from '../components/Field.svelte';
  import Heading from '../components/Heading.svelte';
  import LifetimeAdvice from '../components/LifetimeAdvice.svelte';
  import MemoryCurve from '../components/MemoryCurve.svelte';
  import Problem from '../components/Problem.svelte';
  import UsageHistory from '../components/UsageHistory.svelte';
  import Use from '../components/Use.svelte';

  const tenant = pathParameter('tenant');
  const name = pathParameter('namespace');
  const path = `${tenant}/${name}`;

  let namespace = $state.raw<Namespace | null>(null);
  let tag = '';
  let origins = $state.raw<Origin[]>([]);
  let problem = $state('');
  let texts = $state<Record<string, string>>({});
  let errors = $state<Record<string, string>>({});
  let policy = $state({ through: false, origin: '', pattern: '', content: 'any', schema: '', intervals: '' });
  let change: Dialog, clear: Dialog, remove: Dialog;
  let prefix = $state('');
  let sure = $state('');
  let wouldGo = $state<number | null>(null);

  const mayManage = $derived(signed.may('manage', tenant, name));
  const mine = $derived(feed.samples.map((s) => s.namespaces.find((n) => n.tenant === tenant && n.name === name)));
  const bypassLeft = $derived(mine.at(-1)?.bypass_seconds_left ?? 0);
  const x = $derived(feed.samples.map((s) => Date.parse(s.at) / 1000));
  const reads = $derived(mine.map((n) => n?.reads_per_second ?? null));
  const calls = $derived(mine.map((n) => n?.origin_calls_per_second ?? null));

  interface Part {
    part: keyof Policy & string;
    label: string;
    of: 'size' | 'time' | 'whole';
    hint: string;
    optional?: boolean;
    quota?: boolean;
  }

  const parts: Part[] = [
    { part: 'max_age_seconds', label: 'Max-age', of: 'time', hint: 'How long an entry is fresh' },
    { part: 'shortest_max_age_seconds', label: 'Shortest max-age', of: 'time', hint: 'What clients give is raised to it' },
    { part: 'longest_max_age_seconds', label: 'Longest max-age', of: 'time', hint: 'What clients give is lowered to it' },
    { part: 'stale_while_revalidate_seconds', label: 'Stale-while-revalidate', of: 'time', hint: 'Then served while one caller refreshes it' },
    { part: 'stale_if_error_seconds', label: 'Stale-if-error', of: 'time', hint: 'Then served when the origin fails' },
    { part: 'negative_max_age_seconds', label: 'Negative max-age', of: 'time', hint: 'How long “no value” is remembered' },
    { part: 'jitter_percent', label: 'Jitter, %', of: 'whole', hint: '0 to 50: spreads the expiry' },
    { part: 'early_refresh_percent', label: 'Early refresh, %', of: 'whole', hint: '0 is off, 100 the published rule' },
    { part: 'max_value_bytes', label: 'Max value', of: 'size', hint: 'At most 64 MiB' },
    { part: 'compress_above_bytes', label: 'Compress above', of: 'size', hint: 'Empty compresses no value', optional: true },
    { part: 'reserve_bytes', label: 'Reserve', of: 'size', hint: 'Memory that nobody can displace', quota: true },
    { part: 'cap_bytes', label: 'Cap', of: 'size', hint: 'Empty is no cap', optional: true, quota: true },
    { part: 'max_entries', label: 'Max entries', of: 'whole', hint: 'Empty is no limit', optional: true, quota: true },
    { part: 'requests_per_second', label: 'Max requests a second', of: 'whole', hint: 'Empty is no limit', optional: true, quota: true },
    { part: 'bytes_per_second', label: 'Max bytes a second', of: 'size', hint: 'Empty is no limit', optional: true, quota: true },
  ];
  const offered = $derived(parts.filter((part) => !part.quota || signed.isAdmin));

  const write = {
    size: (n: unknown) => (typeof n === 'number' ? format.bytes(n) : format.NONE),
    time: (n: unknown) => format.time(Number(n)),
    whole: (n: unknown) => (typeof n === 'number' ? format.count(n) : format.NONE),
  };
  const text = {
    size: (n: unknown) => quantities.sizeText(n as number | null),
    time: (n: unknown) => quantities.timeText(n as number),
    whole: (n: unknown) => `${n ?? ''}`,
  };

  async function load() {
    try {
      ({ value: namespace, tag } = await api.namespace(tenant, name));
      if (signed.may('manage', tenant)) origins = await api.origins(tenant);
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

  function edit() {
    if (!namespace) return;
    const { policy: current } = namespace;
    errors = {};
    texts = Object.fromEntries(parts.map(({ part, of }) => [part, text[of](current[part])]));
    policy = {
      through: current.write_through ?? false,
      origin: current.origin?.name ?? '',
      pattern: current.origin?.key_pattern ?? '',
      content: current.content ?? 'any',
      schema: current.content_schema ?? '',
      intervals: intervalsText(current.intervals ?? []),
    };
    change.open();
  }

  /** Takes a suggested max-age. */
  async function take(seconds: number) {
    try {
      ({ value: namespace, tag } = await api.changeNamespace(tenant, name, { max_age_seconds: seconds }, tag));
    } catch (error) {
      problem = messageOf(error);
    }
  }

  /** Lets reads go past the cache for some seconds; 0 ends it. */
  async function bypass(seconds: number) {
    try {
      ({ value: namespace, tag } = await api.changeNamespace(tenant, name, { bypass_seconds: seconds }, ''));
    } catch (error) {
      problem = messageOf(error);
    }
  }

  async function apply() {
    if (!namespace) return;
    const [current, version] = [namespace.policy, tag];
    errors = {};
    const changed: Record<string, unknown> = {};
    for (const { part, of, optional } of offered) {
      // Only what was changed is sent: a quota that stays needs no administrator.
      if (texts[part] === text[of](current[part])) continue;
      try {
        const text = texts[part] ?? '';
        changed[part] = optional ? quantities.limit(text, quantities[of]) : quantities[of](text);
      } catch (error) {
        errors[part] = (error as Error).message;
      }
    }
    if (policy.intervals !== intervalsText(current.intervals ?? [])) {
      try {
        changed.intervals = intervals(policy.intervals);
      } catch (error) {
        errors.intervals = (error as Error).message;
      }
    }
    if (Object.keys(errors).length > 0) throw new quantities.InvalidField('Correct the marked fields.');
    if (policy.through !== (current.write_through ?? false)) changed.write_through = policy.through;
    if (policy.content !== (current.content ?? 'any')) changed.content = policy.content;
    const schema = policy.content === 'json' ? policy.schema.trim() : '';
    if (schema !== (current.content_schema ?? '')) changed.content_schema = schema || null;
    const [before, pattern] = [current.origin?.name ?? '', current.origin?.key_pattern ?? ''];
    if (policy.origin !== before || (policy.origin && policy.pattern !== pattern)) {
      changed.origin = policy.origin ? { name: policy.origin, key_pattern: policy.pattern || null } : null;
    }
    if (Object.keys(changed).length === 0) return;
    ({ value: namespace, tag } = await api.changeNamespace(tenant, name, changed as PolicyChange, version));
  }
</script>

<nav class="mt-3 text-sm" aria-label="Above"><a class="link" href="/tenants">Tenants</a> / {path}</nav>
{#if namespace}
  <Heading question="What is {path}?" answer="{format.count(namespace.usage.entries)} entries">
    in {format.bytes(namespace.usage.bytes)}{#if namespace.policy.origin}, refilled from origin
      <strong>{namespace.policy.origin.name}</strong>{:else}, refilled by services{/if}.
  </Heading>
{:else}
  <Heading question="What is {path}?" answer={problem ? 'Unknown' : '…'} good={!problem}>{problem ? '' : 'Loading.'}</Heading>
{/if}
<Problem message={problem} onretry={load} />

{#if namespace}
  {@const current = namespace.policy}
  <div class="flex flex-wrap gap-2">
    {#if signed.may('read', tenant, name)}
      <a class="btn btn-sm" href="/entries?namespace={encodeURIComponent(path)}">Browse entries</a>
    {/if}
    {#if mayManage}<button class="btn btn-sm" onclick={edit}>Change the policy</button>{/if}
    {#if mayManage && namespace.policy.origin}
      {#if bypassLeft > 0}
        <button class="btn btn-sm btn-warning" onclick={() => bypass(0)}>End the bypass</button>
      {:else}
        <button class="btn btn-sm" title="Is it the cache? For five minutes, reads go to the origin." onclick={() => bypass(300)}>
          Bypass for 5 min
        </button>
      {/if}
    {/if}
    {#if signed.may('invalidate', tenant, name)}
      <button class="btn btn-sm" onclick={() => (([prefix, wouldGo] = ['', null]), clear.open())}>Clear</button>
    {/if}
    {#if signed.may('manage', tenant)}
      <button class="btn btn-sm" onclick={() => ((sure = ''), remove.open())}>Delete</button>
    {/if}
  </div>

  <div class="mt-4 grid gap-8 lg:grid-cols-2">
    <section aria-labelledby="policy-title">
      <h2 id="policy-title" class="border-b border-base-300 pb-1 font-semibold">Policy</h2>
      <dl class="grid grid-cols-[max-content_1fr] text-sm">
        {#each parts as { part, label, of, quota } (part)}
          <dt class="border-b border-base-300 py-1 pr-6">{label}</dt>
          <dd class="border-b border-base-300 py-1 text-right font-medium" data-part={part}>
            {#if part === 'cap_bytes' && current.cap_bytes}
              <Use used={namespace.usage.bytes} limit={current.cap_bytes} write={format.bytes} label="Memory" />
            {:else if part === 'max_entries' && current.max_entries}
              <Use used={namespace.usage.entries} limit={current.max_entries} write={format.count} label="Entries" />
            {:else if quota && !current[part]}
              –
            {:else}
              {write[of](current[part])}
            {/if}
          </dd>
        {/each}
        <dt class="border-b border-base-300 py-1 pr-6">Content</dt>
        <dd class="border-b border-base-300 py-1 text-right font-medium" data-part="content">
          {{ any: 'any bytes', text: 'UTF-8 text', json: 'valid JSON' }[current.content ?? 'any']}{current.content_schema
            ? ' with a schema'
            : ''}
        </dd>
        <dt class="border-b border-base-300 py-1 pr-6">Intervals</dt>
        <dd class="border-b border-base-300 py-1 text-right font-medium break-all" data-part="intervals">
          {intervalsText(current.intervals ?? []) || format.NONE}
        </dd>
        <dt class="border-b border-base-300 py-1 pr-6">Write-through</dt>
        <dd class="border-b border-base-300 py-1 text-right font-medium">{current.write_through ? 'on' : 'off'}</dd>
        {#if current.origin}
          <dt class="py-1">Key pattern</dt>
          <dd class="py-1 text-right font-medium"><code>{current.origin.key_pattern ?? '{key}'}</code></dd>
        {/if}
      </dl>
    </section>
    <section aria-labelledby="reads-title">
      <h2 id="reads-title" class="border-b border-base-300 pb-1 font-semibold">Reads each second, and those that went to an origin</h2>
      {#if x.length > 1}
        <Chart
          summary="Reads per second of {path} over two minutes, now {format.rate(reads.at(-1) ?? 0)}; of the origin {format.rate(calls.at(-1) ?? 0)}"
          {x}
          lines={[
            { label: 'reads', values: reads, color: '--lane-cached', filled: true },
            { label: 'origin calls', values: calls, color: '--lane-direct', dashed: true },
          ]}
          height={220}
          write={format.rate}
          clock
          live
        />
        <p class="text-sm">
          <span class="lane-line lane-cached"></span> all reads
          <span class="lane-line lane-direct ml-4"></span> reads of an origin
        </p>
      {:else}
        <p class="py-3 text-sm">Waiting for the first seconds of data.</p>
      {/if}
    </section>
  </div>
  {#if signed.may('observe', tenant, name)}
    <UsageHistory {tenant} namespace={name} />
    <MemoryCurve {tenant} namespace={name} />
    <LifetimeAdvice {tenant} namespace={name} ontake={mayManage ? take : undefined} />
  {/if}
  {#if signed.may('read', tenant, name)}
    <DamagedValues
      {tenant}
      namespace={name}
      mayRemove={signed.may('invalidate', tenant, name) || signed.may('write', tenant, name)}
    />
  {/if}
{/if}

<Dialog title="Policy of {path}" action="Change it" wide bind:this={change} onaction={apply}>
  <p class="mb-3 text-sm">Effective immediately. Entries that are stored already keep their lifetimes.</p>
  <div class="grid gap-3 sm:grid-cols-2">
    {#each offered as { part, label, hint } (part)}
      <Field {label} {hint} bind:value={() => texts[part] ?? '', (text) => (texts[part] = text)} error={errors[part] ?? ''} />
    {/each}
    <div>
      <label class="text-sm font-medium" for="content">Content</label>
      <select id="content" class="select select-sm w-full" bind:value={policy.content}>
        <option value="any">any bytes</option>
        <option value="text">UTF-8 text</option>
        <option value="json">valid JSON</option>
      </select>
    </div>
    {#if policy.content === 'json'}
      <div class="sm:col-span-2">
        <label class="text-sm font-medium" for="schema">JSON Schema</label>
        <textarea
          id="schema"
          class="textarea h-24 w-full font-mono text-xs"
          spellcheck="false"
          placeholder={'{"properties": {"delay": {"type": "integer"}}}'}
          bind:value={policy.schema}
        ></textarea>
        <p class="text-xs">What values must match; empty is no schema.</p>
      </div>
    {/if}
    <div>
      <label class="text-sm font-medium" for="origin">Origin</label>
      <select id="origin" class="select select-sm w-full" bind:value={policy.origin}>
        <option value="">none: services refill</option>
        {#each origins as origin (origin.name)}<option>{origin.name}</option>{/each}
        {#if policy.origin && !origins.some((o) => o.name === policy.origin)}<option>{policy.origin}</option>{/if}
      </select>
    </div>
    <Field
      label="Intervals"
      bind:value={policy.intervals}
      hint="Removed so often, or read anew: all=1h, tag:boards=30s, refresh prefix:board/=5m"
      error={errors.intervals ?? ''}
    />
    {#if policy.origin}
      <Field label="Key pattern" bind:value={policy.pattern} hint={'Such as board/{harbor}; empty is {key}'} />
      <label class="flex items-center gap-2 text-sm font-medium">
        <input type="checkbox" class="checkbox checkbox-sm" bind:checked={policy.through} /> Writes go to the origin first
      </label>
    {/if}
  </div>
</Dialog>

<Dialog
  title="Clear {path}?"
  action="Clear it"
  danger
  bind:this={clear}
  onaction={async () => {
    await api.clear(tenant, name, prefix);
    await load();
  }}
>
  <p class="mb-3">Every entry goes, or only those of a prefix. No other namespace is touched. The activity records it.</p>
  <Field label="Only keys that start with" bind:value={prefix} placeholder="every key" />
  <div class="mt-2 flex items-center gap-3 text-sm">
    <button type="button" class="btn btn-xs" onclick={async () => (wouldGo = await api.countClear(tenant, name, prefix))}>Count them</button>
    {#if wouldGo !== null}<output>{format.count(wouldGo)} would go.</output>{/if}
  </div>
</Dialog>

<Dialog
  title="Delete {path}?"
  action="Delete it"
  danger
  bind:this={remove}
  onaction={async () => {
    if (sure !== name) throw new quantities.InvalidField(`Write ${name} to delete it.`);
    await api.deleteNamespace(tenant, name);
    goTo('/tenants');
  }}
>
  <p class="mb-3">Its {format.count(namespace?.usage.entries ?? 0)} entries, its policy and the scopes of tokens in it go with it.</p>
  <Field label="Write {name} to confirm" bind:value={sure} required />
</Dialog>
