<script lang="ts">
  import { PERSON_EVENT_LABELS } from '../../../api/vocabulary.ts';
  import { Action, Query } from '../../state/query.svelte.ts';
  import { call } from '../../state/session.svelte.ts';
  import Field from '../../ui/Field.svelte';
  import Form from '../../ui/Form.svelte';
  import Time from '../../ui/Time.svelte';
  import { notify } from '../../ui/toast.ts';
  import ProblemNote from '../ProblemNote.svelte';
  import StoredAddress from '../StoredAddress.svelte';

  /** Where events about people go for a caller, and how the last deliveries went. */
  const { caller }: { caller: string } = $props();
  const named = $derived(caller);
  const loaded = new Query(() => call('showEventReceiver', { params: { caller: named } }), 3_000);
  $effect(() => {
    void named;
    return loaded.start();
  });
  const saving = new Action();
  let url = $state('');
  let secret = $state('');
  const params = $derived({ caller });
  const again = async (said: string) => {
    await loaded.load();
    notify(said);
  };
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    void saving.run(async () => {
      await call('setEventReceiver', { params, body: { url: url.trim(), ...(secret === '' ? {} : { signing_secret: secret }) } });
      [url, secret] = ['', ''];
      await again('Events are sent from now on.');
    });
  };
  const stop = () =>
    saving.run(async () => {
      await call('removeEventReceiver', { params });
      await again('Events are no longer sent.');
    });
  const replay = () =>
    saving.run(async () => {
      const { sent_again: count } = await call('replayEvents', { params, body: {} });
      await again(`${count} sent again.`);
    });
  const e = $derived(loaded.value);
  const hasFailed = $derived(e?.deliveries.some((one) => one.state === 'failed') ?? false);
</script>

<ProblemNote problem={loaded.problem ?? saving.problem} />
{#if e}
  <p class="mb-2">
    {#if e.url}Sent to <StoredAddress url={e.url} show={() => call('showReceiverValues', { params })} />, {e.signed
        ? 'signed by Standard Webhooks'
        : 'not signed'}.
      <button class="btn btn-xs" disabled={saving.busy} onclick={stop}>Stop sending</button>
    {:else}Nothing is sent. The application can read the same events as a feed: <code>GET /api/v1/own/events</code>.{/if}
  </p>
  <Form {saving} onsubmit={submit} class="panel px-4 py-3 mb-4 max-w-2xl">
    <Field id="events-url" label={e.url ? 'Another address' : 'Address'} problem={saving.problem} path="url"
      ><input id="events-url" type="url" class="input w-full mono" required bind:value={url} /></Field
    >
    <Field
      id="events-secret"
      label="Signing secret"
      problem={saving.problem}
      path="signing_secret"
      help="24 characters or more. It is not shown again."
      ><input id="events-secret" type="password" autocomplete="off" class="input w-full" minlength="24" bind:value={secret} /></Field
    >
    <button class="btn btn-primary btn-sm" disabled={saving.busy}>Send events</button>
  </Form>
  {#if e.deliveries.length === 0}<p>Nothing was sent yet. Events come when people consent, disconnect, or lose their connection.</p>
  {:else}
    {#if hasFailed}<button class="btn btn-sm mb-2" disabled={saving.busy} onclick={replay}>Send failed ones again</button>{/if}
    <table class="list-table">
      <caption class="sr-only">Deliveries</caption>
      <thead><tr><th>Event</th><th>Person</th><th>At</th><th>State</th><th>Note</th></tr></thead>
      <tbody>
        {#each e.deliveries as one (one.cursor)}<tr>
            <td data-label="Event">{PERSON_EVENT_LABELS[one.kind]}</td><td data-label="Person">{one.person}</td><td data-label="At"
              ><Time at={one.at} /></td
            ><td data-label="State">{one.state}{one.tries > 1 ? `, ${one.tries} tries` : ''}</td><td data-label="Note">{one.says}</td>
          </tr>{/each}
      </tbody>
    </table>
  {/if}
{:else if !loaded.problem}<p aria-busy="true">Loading…</p>{/if}
