<script lang="ts">
  import { Action } from '../../state/query.svelte.ts';
  import { ChannelDraft } from '../../state/notices.svelte.ts';
  import { call } from '../../state/session.svelte.ts';
  import Field from '../../ui/Field.svelte';
  import Form from '../../ui/Form.svelte';
  import ProblemNote from '../ProblemNote.svelte';

  /** A new channel: where notices go, which of them, and when. */
  const { added }: { added(): Promise<unknown> } = $props();
  let draft = $state.raw(new ChannelDraft());
  const saving = new Action();
  const SEVERITIES = [
    ['action', 'Action needed'],
    ['warning', 'Warnings'],
    ['info', 'Information'],
  ] as const;
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    void saving.run(async () => {
      await call('addChannel', { body: draft.body });
      draft = new ChannelDraft();
      await added();
    });
  };
</script>

<Form {saving} onsubmit={submit} class="panel px-4 py-3 max-w-2xl">
  <Field id="channel-name" label="Name" problem={saving.problem} path="name"
    ><input
      id="channel-name"
      class="input w-full mono"
      required
      pattern="[a-z0-9][a-z0-9._\-]*"
      placeholder="ops"
      bind:value={draft.name}
    /></Field
  >
  <Field id="channel-kind" label="Sends by"
    ><select id="channel-kind" class="select w-full" bind:value={draft.kind}
      ><option value="mail">mail</option><option value="webhook">webhook (CloudEvents, signed)</option><option value="script"
        >a program on this machine</option
      ></select
    ></Field
  >
  {#if draft.kind === 'mail'}
    <Field id="channel-to" label="Addresses" problem={saving.problem} path="to"
      ><input id="channel-to" class="input w-full" required placeholder="ops@saltmarsh.example" bind:value={draft.to} /></Field
    >
  {:else if draft.kind === 'webhook'}
    <Field id="channel-url" label="Address" problem={saving.problem} path="url"
      ><input id="channel-url" type="url" class="input w-full mono" required bind:value={draft.url} /></Field
    >
    <Field
      id="channel-secret"
      label="Signing secret"
      help="24 characters or more. It is not shown again."
      problem={saving.problem}
      path="signing_secret"
      ><input id="channel-secret" type="password" autocomplete="off" minlength="24" class="input w-full" bind:value={draft.secret} /></Field
    >
  {:else}
    <Field id="channel-script" label="File name" help="In the folder of RUSTY_KETTLE_SCRIPTS_FOLDER." problem={saving.problem} path="script"
      ><input id="channel-script" class="input w-full mono" required bind:value={draft.script} /></Field
    >
  {/if}
  <div class="grid sm:grid-cols-3 gap-x-3">
    {#each SEVERITIES as [key, label] (key)}
      <Field id={`channel-${key}`} {label}
        ><select id={`channel-${key}`} class="select w-full" bind:value={draft[key]}
          ><option value="now">at once</option><option value="digest">daily digest</option><option value="off">off</option></select
        ></Field
      >
    {/each}
    <Field id="channel-zone" label="Time zone" problem={saving.problem} path="rule.zone"
      ><input id="channel-zone" class="input w-full" required bind:value={draft.zone} /></Field
    >
    {#if draft.isDigest}<Field id="channel-digest" label="Digest at"
        ><input id="channel-digest" type="time" class="input w-full" required bind:value={draft.digestAt} /></Field
      >{/if}
    <Field id="channel-labels" label="Labels" help="None: all notices." problem={saving.problem} path="rule.labels"
      ><input id="channel-labels" class="input w-full" bind:value={draft.labels} /></Field
    >
  </div>
  <label class="flex items-center gap-2 mb-3"
    ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={draft.quiet} />Quiet hours: sent when they end</label
  >
  {#if draft.quiet}
    <div class="grid grid-cols-2 gap-x-3">
      <Field id="channel-from" label="From" problem={saving.problem} path="rule.quiet"
        ><input id="channel-from" type="time" class="input w-full" required bind:value={draft.quietFrom} /></Field
      >
      <Field id="channel-until" label="To"
        ><input id="channel-until" type="time" class="input w-full" required bind:value={draft.quietTo} /></Field
      >
    </div>
  {/if}
  <ProblemNote problem={saving.problem} />
  <button class="btn btn-primary btn-sm" disabled={saving.busy}>Add channel</button>
</Form>
