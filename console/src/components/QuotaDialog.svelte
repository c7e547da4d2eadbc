<script lang="ts">
  import { api, type TenantQuota, type TenantQuotaChange } from '../lib/api';
  import * as quantities from '../lib/quantities';
  import Dialog from './Dialog.svelte';
  import Field from './Field.svelte';

  let { onchanged }: { onchanged: () => void } = $props();

  type Part = keyof TenantQuota;
  const parts: { part: Part; label: string; of: 'size' | 'whole'; hint: string }[] = [
    { part: 'reserve_bytes', label: 'Reserve', of: 'size', hint: 'Memory that nobody else can push it below' },
    { part: 'cap_bytes', label: 'Cap', of: 'size', hint: 'Memory that it never exceeds' },
    { part: 'max_entries', label: 'Max entries', of: 'whole', hint: 'Over all of its namespaces' },
    { part: 'max_namespaces', label: 'Max namespaces', of: 'whole', hint: '' },
    { part: 'max_value_bytes', label: 'Max value', of: 'size', hint: 'Bounds what its namespaces may allow' },
    { part: 'max_connections', label: 'Max connections', of: 'whole', hint: 'At the same time' },
    { part: 'requests_per_second', label: 'Max requests a second', of: 'whole', hint: 'A burst of one second passes' },
    { part: 'bytes_per_second', label: 'Max bytes a second', of: 'size', hint: 'Of values, in both directions' },
  ];

  let tenant = $state('');
  let tag = '';
  let texts = $state<Record<string, string>>({});
  let errors = $state<Record<string, string>>({});
  let dialog: Dialog;

  /** Shows the quota of a tenant, as it is now. */
  export async function open(name: string) {
    const { value, tag: version } = await api.tenant(name);
    [tenant, tag, errors] = [name, version, {}];
    texts = Object.fromEntries(
      parts.map(({ part, of }) => {
        const number = value.quota?.[part];
        return [part, of === 'size' ? quantities.sizeText(number) : `${number ?? ''}`];
      }),
    );
    dialog.open();
  }

  async function change() {
    errors = {};
    const change: Record<string, number | null> = {};
    for (const { part, of } of parts) {
      try {
        const number = quantities.limit(texts[part] ?? '', quantities[of]);
        change[part] = part === 'reserve_bytes' ? (number ?? 0) : number;
      } catch (error) {
        errors[part] = (error as Error).message;
      }
    }
    if (Object.keys(errors).length > 0) throw new quantities.InvalidField('Correct the marked fields.');
    await api.changeTenant(tenant, change as TenantQuotaChange, tag);
    onchanged();
  }
</script>

<Dialog title="Quota of {tenant}" action="Set the quota" wide bind:this={dialog} onaction={change}>
  <p class="mb-3 text-sm">An empty field is no limit. A change is effective immediately; a lowered limit is reached in the background.</p>
  <div class="grid gap-3 sm:grid-cols-2">
    {#each parts as { part, label, hint } (part)}
      <Field {label} {hint} bind:value={() => texts[part] ?? '', (text) => (texts[part] = text)} error={errors[part] ?? ''} placeholder="no limit" />
    {/each}
  </div>
</Dialog>
