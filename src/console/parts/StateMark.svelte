<script lang="ts">
  import { type AnyState, STATES } from '../../api/vocabulary.ts';
  import VocabularyMark from './VocabularyMark.svelte';

  /** The state of a connection, client or secret. */
  const { state }: { state: AnyState } = $props();
</script>

<VocabularyMark word={STATES[state]} />
