<script lang="ts">
  import HistoryPanel from '../parts/HistoryPanel.svelte';
  import Title from '../parts/Title.svelte';
</script>

<Title title="Activity" />
<p class="mb-3 text-base-content/70">What happened and who did it, newest first.</p>
<HistoryPanel />
