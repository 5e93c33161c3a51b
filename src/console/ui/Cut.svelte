<script lang="ts">
  /** A long identifier or address on one line: cut at its end, never in the middle of a word, with the whole at hand. */
  const { text, class: wide = 'max-w-56' }: { text: string; class?: string } = $props();
</script>

<span class={['inline-block align-bottom truncate', wide]} title={text}>{text}</span>
