<script lang="ts">
  import { api, type OfferedProfile } from '../lib/api';
  import { InvalidField } from '../lib/quantities';
  import { readProfile, writeProfile } from '../lib/load-profile';
  import Dialog from './Dialog.svelte';

  let { onsaved }: { onsaved: (name: string) => void } = $props();

  let dialog: ReturnType<typeof Dialog>;
  let text = $state('');
  let edited = $state<OfferedProfile | null>(null);

  /** Edits a profile, or one that is new, beginning with what another one says. */
  export function open(profile: OfferedProfile, isNew: boolean) {
    edited = isNew ? null : profile;
    // One that is stored or shipped keeps its name to itself.
    const isCopy = isNew && (profile.is_shipped || profile.changed_at);
    const spec = isCopy ? { ...profile.spec, name: `${profile.spec.name}-2` } : profile.spec;
    text = writeProfile(spec);
    dialog.open();
  }

  async function save() {
    const spec = readProfile(text);
    const tenant = spec.namespace?.split('/')[0];
    if (!spec.name || !tenant) throw new InvalidField('The profile needs a name and a namespace (TENANT/NAMESPACE).');
    let tag = '';
    if (edited && !edited.is_shipped && edited.spec.name === spec.name) {
      ({ tag } = await api.loadProfile(tenant, spec.name));
    }
    await api.putLoadProfile(tenant, spec.name, spec, tag);
    onsaved(spec.name);
  }
</script>

<Dialog bind:this={dialog} title={edited ? `Load profile ${edited.spec.name}` : 'New load profile'} action="Store" onaction={save} wide>
  <label class="flex flex-col gap-1">
    <span class="text-sm">
      TOML, as <code>verax load profile init</code> explains it{edited?.is_shipped ? '; the shipped profile stays and is hidden by this one' : ''}
    </span>
    <textarea class="textarea h-96 w-full font-mono text-sm" spellcheck="false" bind:value={text}></textarea>
  </label>
</Dialog>
