<script lang="ts">
  import type { Snippet } from 'svelte';
  import type { Problem } from '../../api/problem.ts';
  import { errorAt } from './field.ts';

  /** A label, its control, a hint, and what is wrong with what was entered. The control takes the id; hint and error describe it. */
  interface Props {
    id: string;
    label: string;
    help?: string;
    /** What saving ended with, and the name of this field in it. */
    problem?: Problem | null;
    path?: string;
    children: Snippet;
  }
  const { id, label, help = '', problem = null, path = '', children }: Props = $props();
  const error = $derived(path === '' ? null : errorAt(problem, path));
  $effect(() => {
    const control = document.getElementById(id);
    const described = [error !== null ? `${id}-error` : '', help !== '' ? `${id}-help` : ''].filter(Boolean).join(' ');
    if (described === '') control?.removeAttribute('aria-describedby');
    else control?.setAttribute('aria-describedby', described);
    if (error === null) control?.removeAttribute('aria-invalid');
    else control?.setAttribute('aria-invalid', 'true');
  });
</script>

<div class="mb-3">
  <label for={id} class="block font-semibold mb-0.5">{label}</label>
  {@render children()}
  {#if error}<p id={`${id}-error`} class="text-sm text-error mt-0.5">{error}</p>{/if}
  {#if help}<p id={`${id}-help`} class="text-sm text-base-content/70 mt-0.5">{help}</p>{/if}
</div>
