<script lang="ts">
  import Form from '../ui/Form.svelte';
  import { Action } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import Field from '../ui/Field.svelte';
  import ProblemNote from './ProblemNote.svelte';

  /** One permission: for a connection or a label, for tokens or the relay, and for the relay which calls. */
  interface Props {
    caller: string;
    connections: { name: string; provider_title: string; labels: string[] }[];
    done: () => unknown;
    cancel: () => void;
  }
  const { caller, connections, done, cancel }: Props = $props();
  const METHODS = ['GET', 'HEAD', 'POST', 'PUT', 'PATCH', 'DELETE', 'OPTIONS'] as const;
  const USES = { any: 'tokens and relay', token: 'tokens only', relay: 'relay only: it never sees a token' };
  let by = $state<'connection' | 'label'>('connection');
  let what = $state('');
  let use = $state<keyof typeof USES>('any');
  let methods = $state<(typeof METHODS)[number][]>([]);
  let paths = $state('');
  let share = $state('');
  const PEOPLE = { none: 'nothing', read: 'see them and the events of those it invited', manage: 'invite and disconnect them as well' };
  let people = $state<keyof typeof PEOPLE>('none');
  const labels = $derived([...new Set(connections.flatMap((one) => one.labels))].sort());
  const doing = new Action();
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    void doing.run(async () => {
      const body = {
        ...(by === 'connection' ? { connection: what } : { label: what }),
        use,
        methods,
        paths: paths.split(/\s+/).filter(Boolean),
        share: share === '' ? null : Number(share),
        people,
      };
      await call('permitCaller', { params: { caller }, body });
      await done();
    });
  };
</script>

<Form saving={doing} class="panel px-4 py-3 max-w-2xl" onsubmit={submit} aria-label="Permit">
  <fieldset class="mb-3 flex flex-wrap gap-x-5">
    <legend class="font-semibold">Permit</legend>
    <label class="flex items-center gap-2"
      ><input type="radio" class="radio radio-sm" value="connection" bind:group={by} onchange={() => (what = '')} />one connection</label
    >
    <label class="flex items-center gap-2"
      ><input type="radio" class="radio radio-sm" value="label" bind:group={by} onchange={() => (what = '')} />all that carry a label, also
      later ones</label
    >
  </fieldset>
  {#if by === 'connection'}<Field id="permit-what" label="Connection"
      ><input id="permit-what" class="input w-full mono" required list="connections" autocomplete="off" bind:value={what} /><datalist
        id="connections"
        >{#each connections as one (one.name)}<option value={one.name}>{one.provider_title}</option>{/each}</datalist
      ></Field
    >
  {:else}<Field id="permit-what" label="Label" help="Labels are given to connections on their own pages."
      ><input
        id="permit-what"
        class="input w-full mono"
        required
        pattern="[a-z0-9][a-z0-9._=\-]*"
        list="labels"
        bind:value={what}
      /><datalist id="labels"
        >{#each labels as label (label)}<option value={label}></option>{/each}</datalist
      ></Field
    >{/if}
  <Field id="permit-use" label="For"
    ><select id="permit-use" class="select w-full" bind:value={use}
      >{#each Object.entries(USES) as [value, says] (value)}<option {value}>{says}</option>{/each}</select
    ></Field
  >
  {#if use !== 'token'}
    <fieldset class="mb-3">
      <legend class="font-semibold">Methods through the relay</legend>
      <div class="flex flex-wrap gap-x-4">
        {#each METHODS as method (method)}<label class="flex items-center gap-1.5"
            ><input type="checkbox" class="checkbox checkbox-sm" value={method} bind:group={methods} /><code>{method}</code></label
          >{/each}
      </div>
      <p class="text-sm text-base-content/70">None ticked: all.</p>
    </fieldset>
    <Field
      id="permit-paths"
      label="Paths through the relay"
      help="One a line, such as /parcels/* (one segment) or /parcels/** (everything below). Empty: all."
      ><textarea id="permit-paths" class="textarea w-full mono" rows="2" bind:value={paths}></textarea></Field
    >
    <Field id="permit-share" label="Share of each quota window, in percent" help="Empty: no cap of its own."
      ><input id="permit-share" class="input w-28" type="number" min="1" max="100" bind:value={share} /></Field
    >
  {/if}
  <Field id="permit-people" label="With the people of a shared connection"
    ><select id="permit-people" class="select w-full" bind:value={people}
      >{#each Object.entries(PEOPLE) as [value, says] (value)}<option {value}>{says}</option>{/each}</select
    ></Field
  >
  <ProblemNote problem={doing.problem} />
  <button class="btn btn-primary btn-sm" disabled={doing.busy}>Permit it</button>
  <button type="button" class="btn btn-sm" onclick={cancel}>Cancel</button>
</Form>
