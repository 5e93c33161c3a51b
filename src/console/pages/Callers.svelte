<script lang="ts">
  import Form from '../ui/Form.svelte';
  import { onMount } from 'svelte';
  import { namesInWords } from '../../api/caller-words.ts';
  import type { NewKey } from '../../api/callers.ts';
  import Field from '../ui/Field.svelte';
  import Time from '../ui/Time.svelte';
  import NewKeyNote from '../parts/NewKeyNote.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import Title from '../parts/Title.svelte';
  import { clock } from '../state/clock.svelte.ts';
  import { Action, Query } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';

  const list = new Query(() => call('listCallers'), 3_000);
  const connections = new Query(() => call('listConnections', { query: { limit: 500 } }));
  onMount(() => {
    const stops = [list.start(), connections.start()];
    return () => stops.forEach((stop) => stop());
  });
  let name = $state('');
  let title = $state('');
  let ticked = $state<string[]>([]);
  let made = $state.raw<NewKey | null>(null);
  const saving = new Action();
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    void saving.run(async () => {
      made = await call('addCaller', { body: { name: name.trim(), title: title.trim(), connections: ticked } });
      [name, title, ticked] = ['', '', []];
      await list.load();
    });
  };
</script>

<Title title="Callers"><a class="btn btn-sm" href="#/privilege">Privilege</a></Title>
<ProblemNote problem={list.problem} />
{#if made}<NewKeyNote {made} onclose={() => (made = null)} />{/if}
{#if list.value?.items.length === 0}<p class="mb-4">
    No callers yet. A caller is a program that may use connections: it fetches tokens with an id and a key of its own.
  </p>
{:else if list.value}
  <table class="list-table mb-6">
    <thead
      ><tr
        ><th class="w-56">Caller</th><th>May use</th><th class="w-24 text-right">Keys in use</th><th class="w-24 text-right">Tokens</th><th
          class="w-24 text-right">Relayed</th
        ><th class="w-24 text-right">Rejected</th><th class="w-28">Last used</th></tr
      ></thead
    >
    <tbody
      >{#each list.value.items as one (one.name)}<tr
          ><td data-label="Caller" class="font-semibold"
            ><a class="link" href={`#/callers/${one.name}`}>{one.name}</a> <span class="font-normal">{one.title}</span></td
          ><td data-label="May use">{namesInWords(one.connections, one.connections_total) || 'nothing yet'}</td><td
            data-label="Keys in use"
            class="text-right tabular-nums">{one.keys.filter((key) => !key.retired_at || Date.parse(key.retired_at) > clock.now).length}</td
          ><td data-label="Tokens" class="text-right tabular-nums">{one.tokens_last_hour}</td><td
            data-label="Relayed"
            class="text-right tabular-nums">{one.relayed_last_hour}</td
          ><td data-label="Rejected" class={['text-right tabular-nums', one.refused_last_hour > 0 && 'text-warning font-semibold']}
            >{one.refused_last_hour}</td
          ><td data-label="Last used"><Time at={one.last_used_at} none="never" /></td></tr
        >{/each}</tbody
    >
  </table>
  <p class="text-sm text-base-content/70 -mt-5 mb-6">Numbers of the last hour.</p>
{:else if !list.problem}<p aria-busy="true">Loading…</p>{/if}
<Form {saving} class="panel px-4 py-3 max-w-xl" onsubmit={submit} aria-labelledby="add">
  <h2 id="add" class="mb-2">Add a caller</h2>
  <Field id="name" problem={saving.problem} path="name" label="Name" help="The integration’s name, such as timetable-board."
    ><input id="name" class="input w-full mono" required pattern="[a-z0-9][a-z0-9._\-]*" maxlength="63" bind:value={name} /></Field
  >
  <Field id="title" problem={saving.problem} path="title" label="Title" help="Optional; for people."
    ><input id="title" class="input w-full" maxlength="80" bind:value={title} /></Field
  >
  <fieldset class="mb-3">
    <legend class="font-semibold">May use</legend>
    <div class="max-h-64 overflow-y-auto">
      {#each connections.value?.items ?? [] as one (one.name)}<label class="flex items-center gap-2 py-0.5"
          ><input type="checkbox" class="checkbox checkbox-sm" value={one.name} bind:group={ticked} />{one.name}
          <span class="text-base-content/70">{one.provider_title}</span></label
        >{:else}<p class="text-base-content/70">No connections yet; they can be given to the caller later.</p>{/each}
    </div>
  </fieldset>
  <ProblemNote problem={saving.problem} />
  <button class="btn btn-primary btn-sm" disabled={saving.busy}>Add and make a key</button>
</Form>
