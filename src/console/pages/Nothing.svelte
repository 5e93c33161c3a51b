<script lang="ts">
  import Title from '../parts/Title.svelte';
</script>

<Title title="There is no such page" />
<p>Go to <a class="link" href="#/">Now</a>, or choose a place on the left.</p>
