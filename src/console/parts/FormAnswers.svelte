<script lang="ts">
  import Form from '../ui/Form.svelte';
  import type { Client } from '../../api/clients.ts';
  import { Action } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import Copy from '../ui/Copy.svelte';
  import Field from '../ui/Field.svelte';
  import Time from '../ui/Time.svelte';
  import ProblemNote from './ProblemNote.svelte';

  /** The provider's access request form: its questions with our answers, what was sent, and whether approval has come. */
  const { client: c, done }: { client: Client; done: () => unknown } = $props();
  const key = $derived({ provider: c.provider, client: c.name });
  let own = $state<Record<string, string>>({});
  let form = $state('');
  let expected = $state('');
  let sending = $state(false);
  let kept = $state('');
  const doing = new Action();
  const questions = $derived(c.form.length > 0 ? c.form : [{ question: 'What was sent', answer: '', from: null }]);
  const answerTo = (question: string, offered: string) => own[question] ?? offered;
  const send = (event: SubmitEvent) => {
    event.preventDefault();
    void doing
      .run(async () => {
        const answers = questions
          .map((one) => ({ question: one.question, answer: answerTo(one.question, one.answer) }))
          .filter((one) => one.answer.trim() !== '');
        await call('recordRequest', {
          params: key,
          body: { form: form.trim() || 'access request form', answers, expected_on: expected || null },
        });
        await done();
      })
      .then((good) => {
        if (!good) return;
        [sending, kept, own] = [false, 'What was sent is kept.', {}];
      });
  };
  const look = () =>
    doing.run(async () => {
      await call('checkApproval', { params: key });
      await done();
    });
</script>

<p class="mb-2">
  {c.approval_told
    ? 'This service asks the token endpoint automatically whether approval has come, and shows it in the history.'
    : 'No message arrives when it is approved: check at the provider, then enter it under “Details”.'}
  {#if c.approval_told && c.missing.length === 0}<button type="button" class="btn btn-xs ml-1" disabled={doing.busy} onclick={look}
      >Ask now</button
    >{/if}
</p>
<p class="mb-3">
  <span class="font-semibold">Approval:</span>
  {c.approval.replaceAll('_', ' ')}{#if c.registering.approved_on}, on {c.registering.approved_on}{/if}
  {#if c.approval_seen_at}Last checked <Time at={c.approval_seen_at} />: <code>{c.approval_evidence ?? 'no answer yet'}</code>{/if}
</p>
{#if !sending}
  {#if c.form.length > 0}
    <table class="list-table mb-2">
      <thead><tr><th class="w-1/3">Their question</th><th>Our answer</th></tr></thead><tbody>
        {#each c.form as one (one.question)}<tr
            ><td data-label="Their question">{one.question}</td><td data-label="Our answer"
              >{#if one.answer}<Copy value={one.answer} label={`the answer to “${one.question}”`} />{:else if one.from}<span
                  class="text-warning">not answered yet: <a class="link" href="#/settings">answer it once for every form</a></span
                >{:else}<span class="text-base-content/70">for this client alone</span>{/if}</td
            ></tr
          >{/each}
      </tbody>
    </table>
  {/if}
  <button
    type="button"
    class="btn btn-sm"
    onclick={() => {
      sending = true;
      kept = '';
    }}>Mark as sent</button
  > <span role="status" class="text-success font-semibold">{kept}</span>
{:else}
  <Form saving={doing} onsubmit={send} class="max-w-2xl">
    {#each questions as one, at (one.question)}<Field id={`question-${at}`} label={one.question}
        ><textarea
          id={`question-${at}`}
          class="textarea w-full min-h-9 h-9"
          rows="1"
          maxlength="2000"
          value={answerTo(one.question, one.answer)}
          oninput={(event) => (own[one.question] = event.currentTarget.value)}></textarea></Field
      >{/each}
    <div class="grid md:grid-cols-2 gap-x-4">
      <Field id="which-form" label="By which form"
        ><input id="which-form" class="input w-full" maxlength="120" placeholder="access request form" bind:value={form} /></Field
      >
      <Field id="expected" problem={doing.problem} path="expected_account" label="Expected by"
        ><input id="expected" type="date" class="input w-full" bind:value={expected} /></Field
      >
    </div>
    <button class="btn btn-primary btn-sm" disabled={doing.busy}>Keep it as sent</button>
    <button type="button" class="btn btn-sm" onclick={() => (sending = false)}>Not sent yet</button>
  </Form>
{/if}
<ProblemNote problem={doing.problem} />
{#each c.requests as sent, at (at)}
  <details class="mt-2">
    <summary class="cursor-pointer">Sent on {sent.sent_on} by {sent.sent_by}: {sent.form}</summary>
    <dl class="facts mt-1">
      {#each sent.answers as one (one.question)}<dt>{one.question}</dt>
        <dd class="whitespace-pre-line">{one.answer}</dd>{/each}
    </dl>
  </details>
{/each}
