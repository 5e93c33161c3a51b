<script lang="ts">
  import RotateCw from '@lucide/svelte/icons/rotate-cw';
  import Title from '../parts/Title.svelte';
</script>

<Title title="This page could not be loaded" />
<p>The service does not answer, or it was upgraded while this tab was open.</p>
<button type="button" class="btn btn-sm btn-primary mt-3" onclick={() => location.reload()}
  ><RotateCw size={15} aria-hidden="true" />Load again</button
>
