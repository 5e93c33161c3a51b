<script lang="ts">
  import type { Snippet } from 'svelte';
  import type { HTMLFormAttributes } from 'svelte/elements';
  import type { Action } from '../state/query.svelte.ts';
  import { Unsaved } from './unsaved.svelte.ts';

  /** A form that keeps what was typed when saving fails, and asks before what was typed is lost. */
  interface Props extends Omit<HTMLFormAttributes, 'children'> {
    saving: Action;
    children: Snippet;
  }
  const { saving, children, ...attributes }: Props = $props();
  const unsaved = new Unsaved((question) => window.confirm(question));
  let wasBusy = false;
  $effect(() => {
    if (wasBusy && !saving.busy && saving.problem === null) unsaved.isDirty = false;
    wasBusy = saving.busy;
  });
</script>

<svelte:window onbeforeunload={unsaved.beforeUnload} onclickcapture={unsaved.beforeLink} />
<form {...attributes} oninput={() => (unsaved.isDirty = true)}>{@render children()}</form>
