<script lang="ts">
  /** Names and values, a row each: a query, headers. One empty row stands at the end. */
  let { pairs = $bindable(), legend }: { pairs: { name: string; value: string }[]; legend: string } = $props();
  const change = (at: number, part: 'name' | 'value', text: string) => {
    const rows = [...pairs, ...(at === pairs.length ? [{ name: '', value: '' }] : [])];
    pairs = rows.map((row, n) => (n === at ? { ...row, [part]: text } : row)).filter((row) => row.name !== '' || row.value !== '');
  };
</script>

<fieldset class="mb-3">
  <legend class="font-semibold">{legend}</legend>
  {#each [...pairs, { name: '', value: '' }] as row, at (at)}
    <div class="flex gap-1 mb-1">
      <input
        class="input input-sm mono w-56"
        aria-label={`${legend}: name ${at + 1}`}
        value={row.name}
        oninput={(event) => change(at, 'name', event.currentTarget.value)}
      /><input
        class="input input-sm mono grow"
        aria-label={`${legend}: value ${at + 1}`}
        value={row.value}
        oninput={(event) => change(at, 'value', event.currentTarget.value)}
      />
    </div>
  {/each}
</fieldset>
