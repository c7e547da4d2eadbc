<script lang="ts">
  import type { Snippet } from 'svelte';
  import { messageOf } from '../lib/api';

  interface Props {
    title: string;
    /** The name of what it does. */
    action: string;
    /** Whether something is lost by it. */
    danger?: boolean;
    /** Does it; an error is shown, and the dialog stays. */
    onaction: () => Promise<void> | void;
    children: Snippet;
    wide?: boolean;
  }

  let { title, action, danger = false, onaction, children, wide = false }: Props = $props();
  const id = $props.id();
  let dialog: HTMLDialogElement;
  let isOpen = $state(false);
  let isBusy = $state(false);
  let problem = $state('');

  export function open() {
    [problem, isOpen] = ['', true];
    dialog.showModal();
  }

  async function submit(event: SubmitEvent) {
    event.preventDefault();
    if (isBusy) return;
    [isBusy, problem] = [true, ''];
    try {
      await onaction();
      dialog.close();
    } catch (error) {
      problem = messageOf(error);
    } finally {
      isBusy = false;
    }
  }
</script>

<dialog class="modal" bind:this={dialog} aria-labelledby="{id}-title" onclose={() => (isOpen = false)}>
  <div class="modal-box {wide ? 'max-w-3xl' : ''}">
    <h2 id="{id}-title" class="mb-3 text-lg font-semibold">{title}</h2>
    <form onsubmit={submit}>
      {#if isOpen}{@render children()}{/if}
      {#if problem}<p class="mt-3 font-medium text-error" role="alert">{problem}</p>{/if}
      <div class="modal-action">
        <button type="button" class="btn btn-sm btn-ghost" onclick={() => dialog.close()}>Cancel</button>
        <button class="btn btn-sm {danger ? 'btn-error' : 'btn-primary'}" disabled={isBusy}>{action}</button>
      </div>
    </form>
  </div>
</dialog>
