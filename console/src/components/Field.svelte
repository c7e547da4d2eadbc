<script lang="ts">
  interface Props {
    label: string;
    value: string;
    /** What it means, or what is left out. */
    hint?: string;
    placeholder?: string;
    error?: string;
    type?: 'text' | 'password';
    required?: boolean;
  }

  let { label, value = $bindable(), hint = '', placeholder = '', error = '', type = 'text', required = false }: Props =
    $props();
  const id = $props.id();
</script>

<div>
  <label class="text-sm font-medium" for={id}>{label}</label>
  <input
    {id}
    {type}
    {placeholder}
    {required}
    class="input input-sm w-full {error ? 'input-error' : ''}"
    bind:value
    autocomplete="off"
    aria-invalid={error !== ''}
    aria-describedby={error || hint ? `${id}-note` : undefined}
  />
  {#if error || hint}
    <p id="{id}-note" class="text-xs {error ? 'font-medium text-error' : ''}">{error || hint}</p>
  {/if}
</div>
