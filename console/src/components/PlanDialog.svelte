<script lang="ts">
  import { api, type KeySource, type WarmPlanSpec } from '../lib/api';
  import { readSources, writeSources } from '../lib/key-sources';
  import * as quantities from '../lib/quantities';
  import Dialog from './Dialog.svelte';
  import Field from './Field.svelte';

  let { onchanged }: { onchanged: (path: string) => void } = $props();

  let tenant = $state('');
  let name = $state('');
  let isNew = $state(true);
  let tag = '';
  let spec = $state.raw<WarmPlanSpec>({ namespace: '', keys: [] });
  let texts = $state<Record<string, string>>({});
  let errors = $state<Record<string, string>>({});
  let order = $state<NonNullable<WarmPlanSpec['order']>>('given');
  let fresh = $state<NonNullable<WarmPlanSpec['fresh']>>('refresh');
  let overlap = $state<NonNullable<WarmPlanSpec['overlap']>>('refuse');
  let afterStart = $state(false);
  let dialog: Dialog;

  type Optional = 'whole' | 'time' | 'number';
  const fields: { part: keyof WarmPlanSpec; label: string; of: Optional; hint: string }[] = [
    { part: 'concurrency', label: 'Concurrency', of: 'whole', hint: 'Refills at a time, 1 to 256; 4 when empty' },
    { part: 'max_per_second', label: 'Max refills a second', of: 'number', hint: 'No limit when empty' },
    { part: 'origin_share_percent', label: 'Share of the origin, %', of: 'whole', hint: 'Of its concurrent calls; 50 when empty' },
    { part: 'deadline_seconds', label: 'Deadline', of: 'time', hint: 'The run ends after this time' },
    { part: 'refresh_within_seconds', label: 'Refresh within', of: 'time', hint: 'With “leave”: what ends sooner is refilled' },
    { part: 'max_age_seconds', label: 'Max-age', of: 'time', hint: 'The policy’s when empty' },
    { part: 'tolerated_failures', label: 'Tolerated failures', of: 'whole', hint: 'With more, the run ends' },
    { part: 'retries', label: 'Retries', of: 'whole', hint: 'Of a failed key, 0 to 10; 2 when empty' },
  ];

  function show(path: string, given: WarmPlanSpec, version: string, created: boolean) {
    [tenant = '', name = ''] = path.split('/');
    [spec, tag, isNew, errors] = [given, version, created, {}];
    texts = Object.fromEntries(
      fields.map(({ part, of }) => {
        const number = given[part] as number | null | undefined;
        if (number === null || number === undefined) return [part, ''];
        return [part, of === 'time' ? quantities.timeText(number) : String(number)];
      }),
    );
    texts.name = name;
    texts.note = given.note ?? '';
    texts.keys = writeSources(given.keys);
    const after = given.after_invalidation;
    texts.after = after ? quantities.timeText(after.quiet_seconds) : '';
    [order, fresh, overlap] = [given.order ?? 'given', given.fresh ?? 'refresh', given.overlap ?? 'refuse'];
    afterStart = given.after_start ?? false;
    dialog.open();
  }

  /** Shows a new plan of a tenant. */
  export function create(of: string, given: WarmPlanSpec) {
    show(`${of}/`, given, '', true);
  }

  /** Shows a plan, as it is now. */
  export async function edit(of: string, plan: string) {
    const { value, tag: version } = await api.warmPlan(of, plan);
    const { tenant: _tenant, name: _name, changed_at: _changed, ...given } = value;
    show(`${of}/${plan}`, given, version, false);
  }

  function attempt<T>(part: string, read: () => T): T | undefined {
    try {
      return read();
    } catch (error) {
      errors[part] = (error as Error).message;
      return undefined;
    }
  }

  async function keep() {
    errors = {};
    const keys: KeySource[] | undefined = attempt('keys', () => readSources(texts.keys ?? ''));
    const given: Record<string, unknown> = {};
    for (const { part, of } of fields) {
      const text = texts[part]?.trim() ?? '';
      if (text === '') continue;
      given[part] = attempt(part, () => {
        if (of === 'time') return quantities.time(text);
        if (of === 'whole') return quantities.whole(text);
        const number = Number(text);
        if (Number.isNaN(number)) throw new quantities.InvalidField(`“${text}” is not a number`);
        return number;
      });
    }
    const quiet = (texts.after ?? '').trim() === '' ? null : attempt('after', () => quantities.time(texts.after ?? ''));
    const plan = isNew ? (texts.name ?? '').trim() : name;
    if (plan === '') errors.name = 'Name the plan, such as morning-boards';
    if (Object.keys(errors).length > 0) throw new quantities.InvalidField('Correct the marked fields.');
    const within = Math.max(spec.after_invalidation?.within_seconds ?? 30, quiet ?? 0);
    const full = {
      namespace: spec.namespace,
      note: texts.note ?? '',
      keys: keys ?? [],
      order,
      fresh,
      overlap,
      after_start: afterStart,
      ...(spec.first_pause_seconds == null ? {} : { first_pause_seconds: spec.first_pause_seconds }),
      ...(quiet === null ? {} : { after_invalidation: { quiet_seconds: quiet, within_seconds: within } }),
      ...given,
    } as WarmPlanSpec;
    await api.putWarmPlan(tenant, plan, full, tag);
    onchanged(`${tenant}/${plan}`);
  }
</script>

<Dialog
  title={isNew ? `New warm plan for ${tenant}/${spec.namespace}` : `Warm plan ${tenant}/${name}`}
  action="Keep the plan"
  wide
  bind:this={dialog}
  onaction={keep}
>
  <div class="grid gap-3 sm:grid-cols-2">
    {#if isNew}
      <Field label="Name" bind:value={() => texts.name ?? '', (t) => (texts.name = t)} error={errors.name ?? ''} placeholder="morning-boards" required />
    {/if}
    <Field label="What it is for" bind:value={() => texts.note ?? '', (t) => (texts.note = t)} />
  </div>
  <label class="mt-3 block text-sm font-medium" for="plan-keys">Keys</label>
  <textarea
    id="plan-keys"
    class="textarea w-full font-mono text-sm {errors.keys ? 'textarea-error' : ''}"
    rows="4"
    bind:value={() => texts.keys ?? '', (t) => (texts.keys = t)}
    aria-describedby="plan-keys-note"
    aria-invalid={!!errors.keys}
  ></textarea>
  <p id="plan-keys-note" class="text-xs {errors.keys ? 'font-medium text-error' : ''}">
    {#if errors.keys}{errors.keys}{:else}
      One a line: a key, <code>hottest 50</code>, <code>tag weather</code>, <code>prefix board/</code>, or
      <code>pattern board/{'{harbor}'} harbor=origin:/harbors day=days:-1..7</code>
    {/if}
  </p>
  <div class="mt-3 grid gap-3 sm:grid-cols-2 lg:grid-cols-3">
    <label class="flex flex-col text-sm font-medium">Order
      <select class="select select-sm w-full" bind:value={order}>
        <option value="given">as given</option>
        <option value="hottest-first">hottest first</option>
        <option value="cheapest-first">cheapest first</option>
      </select>
    </label>
    <label class="flex flex-col text-sm font-medium">Fresh entries
      <select class="select select-sm w-full" bind:value={fresh}>
        <option value="refresh">refill, readable meanwhile</option>
        <option value="skip">leave</option>
      </select>
    </label>
    <label class="flex flex-col text-sm font-medium">While a run is active, a second
      <select class="select select-sm w-full" bind:value={overlap}>
        <option value="refuse">is refused</option>
        <option value="join">joins it</option>
        <option value="queue">waits for it</option>
      </select>
    </label>
    {#each fields as { part, label, hint } (part)}
      <Field {label} {hint} bind:value={() => texts[part] ?? '', (t) => (texts[part] = t)} error={errors[part] ?? ''} />
    {/each}
    <Field
      label="After an invalidation"
      hint="Runs once none came for this time, such as 2s; never when empty"
      bind:value={() => texts.after ?? '', (t) => (texts.after = t)}
      error={errors.after ?? ''}
    />
    <label class="flex items-center gap-2 self-center text-sm font-medium">
      <input type="checkbox" class="checkbox checkbox-sm" bind:checked={afterStart} /> After a start of Verax
    </label>
  </div>
</Dialog>
