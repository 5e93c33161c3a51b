<script lang="ts">
  import { push } from 'svelte-spa-router';
  import JobForm from '../parts/job/JobForm.svelte';
  import Title from '../parts/Title.svelte';
  import { handed } from '../state/job-draft.svelte.ts';
  import { call } from '../state/session.svelte.ts';

  const { draft } = handed;
  const save = async () => {
    if (!draft) return;
    const secret = draft.secret === '' ? {} : { signing_secret: draft.secret };
    const job = await call('addJob', { body: { ...draft.settings(), ...secret, name: draft.name.trim(), connection: draft.connection } });
    handed.draft = null;
    await push(`/jobs/${job.name}`);
  };
</script>

<Title title="New job" up={{ href: '#/jobs', name: 'Jobs' }} />
{#if draft}
  <p class="mb-3">
    Collects <code>{draft.rest.call?.method ?? 'GET'} {draft.rest.call?.path ?? draft.rest.saved}</code> through
    <a class="link" href={`#/connections/${draft.connection}`}>{draft.connection}</a>.
  </p>
  <JobForm {draft} isNew {save} />
{:else}
  <p>
    A job begins with a call that works. Open a connection under <a class="link link-primary" href="#/connections">Connections</a>, choose
    Test call, then Collect all pages, then Save as job.
  </p>
{/if}
