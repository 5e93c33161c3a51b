<script lang="ts">
  import type { SetupInstructions } from '../../api/callers.ts';
  import type { Problem } from '../../api/problem.ts';
  import { call, problemOf } from '../state/session.svelte.ts';
  import Copy from '../ui/Copy.svelte';
  import ProblemNote from './ProblemNote.svelte';

  /** What to paste where, for each kind of tool, with this caller's values. `version` changes when the caller did. */
  const { caller, connections, total, version }: { caller: string; connections: string[]; total: number; version: string } = $props();
  let wanted = $state('');
  /** Of many, the first are offered and any can be typed. */
  const many = $derived(total > connections.length);
  const connection = $derived(wanted !== '' && (many || connections.includes(wanted)) ? wanted : (connections[0] ?? ''));
  let kind = $state<SetupInstructions['kind'] | null>(null);
  let sheets = $state.raw<SetupInstructions[]>([]);
  let problem = $state.raw<Problem | null>(null);
  $effect(() => {
    void version;
    if (connection === '') return;
    let over = false;
    call('listSetupInstructions', { params: { caller }, query: { connection } }).then(
      (answer) => over || ([sheets, problem] = [answer.items, null]),
      (error: unknown) => over || (problem = problemOf(error)),
    );
    return () => (over = true);
  });
  const sheet = $derived(sheets.find((one) => one.kind === kind) ?? null);
</script>

{#if connections.length === 0}<p>Permit a connection first; then this says what to paste into the tool.</p>
{:else}
  {#if many}<label class="flex items-center gap-2 mb-2"
      >For the connection <input
        class="input input-sm w-56 mono"
        list="sheet-connections"
        value={connection}
        onchange={(event) => (wanted = event.currentTarget.value.trim())}
      /></label
    >
    <datalist id="sheet-connections"
      >{#each connections as name (name)}<option value={name}></option>{/each}</datalist
    >
  {:else}<label class="flex items-center gap-2 mb-2"
      >For the connection <select
        class="select select-sm w-56"
        value={connection}
        onchange={(event) => (wanted = event.currentTarget.value)}
        >{#each connections as name (name)}<option>{name}</option>{/each}</select
      ></label
    >{/if}
  <ProblemNote {problem} />
  <div class="grid md:grid-cols-[20rem_minmax(0,1fr)] gap-4 max-w-6xl">
    <div role="group" aria-label="Kind of tool">
      {#each sheets as one (one.kind)}
        <button
          type="button"
          aria-pressed={kind === one.kind}
          class={[
            'block w-full text-left px-3 py-1.5 border-l-4 cursor-pointer hover:bg-base-200',
            kind === one.kind ? 'border-primary bg-base-200' : 'border-base-300',
          ]}
          onclick={() => (kind = one.kind)}
        >
          <span class="font-semibold">{one.title}</span><span class="block text-sm text-base-content/80">{one.fits}</span>
        </button>
      {/each}
    </div>
    <div>
      {#if !sheet}<p class="text-base-content/70">Choose the kind of tool by the fields that it shows.</p>
      {:else}
        {#each sheet.missing as line (line)}<p class="border-l-4 border-warning pl-3 mb-2"><strong>First:</strong> {line}</p>{/each}
        <ol class="list-decimal ml-5 mb-3">
          {#each sheet.steps as step (step)}<li>{step}</li>{/each}
        </ol>
        {#if sheet.boxes.length > 0}<dl class="facts mb-3">
            {#each sheet.boxes as box (box.box)}<dt>{box.box}</dt>
              <dd>
                {#if box.as !== 'value'}<em>{box.value}</em>{:else}<Copy value={box.value} label={box.box} />{/if}{#if box.note}<div
                    class="text-sm text-base-content/70"
                  >
                    {box.note}
                  </div>{/if}
              </dd>{/each}
          </dl>{/if}
        <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
        {#if sheet.text}<pre class="panel px-3 py-2 overflow-x-auto mb-3" tabindex="0" aria-label="Example">{sheet.text}</pre>{/if}
        {#if sheet.weaker}<p class="text-sm"><strong class="text-warning">Weaker:</strong> {sheet.weaker}</p>{/if}
      {/if}
    </div>
  </div>
{/if}
