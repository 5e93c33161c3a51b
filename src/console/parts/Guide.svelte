<script lang="ts">
  import type { Client } from '../../api/clients.ts';
  import { Action } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import Copy from '../ui/Copy.svelte';
  import GuideEntry from './GuideEntry.svelte';
  import ProblemNote from './ProblemNote.svelte';

  /** The steps of registering this client at the provider, with its own values; what is ticked is remembered. */
  const { client: c, done }: { client: Client; done: () => unknown } = $props();
  const doing = new Action();
  const NAMES: Record<string, string> = {
    redirect_uri: 'the redirect URI',
    redirect_host: 'our host',
    client_title: 'the title',
    client_id: 'the client id',
    listed_accounts: 'the listed accounts',
    sha1: 'the thumbprint of the certificate',
    keys_address: 'the address of the public keys',
  };
  const nameOf = (name: string) => NAMES[name] ?? `the ${name.replaceAll('_', ' ')}`;
  const ANSWERED = ['organization', 'purpose', 'contact', 'platform', 'home_page', 'privacy_page', 'terms_page'];
  const isAnswered = (step: Client['guide'][number]) => step.missing.some((name) => ANSWERED.includes(name));
  const remember = (registering: Partial<Client['registering']>) =>
    doing.run(async () => {
      await call('changeClient', { params: { provider: c.provider, client: c.name }, body: { revision: c.revision, registering } });
      await done();
    });
  const tick = (title: string, to: boolean) =>
    remember({ done: to ? [...c.registering.done, title] : c.registering.done.filter((one) => one !== title) });
  const left = $derived(c.guide.filter((step) => !step.done).length);
</script>

{#if c.guide.length > 0}
  {#if c.purposes.length > 0}
    <p class="mb-2 flex items-center gap-2">
      <label for="purpose" class="font-semibold">Purpose</label><select
        id="purpose"
        class="select select-sm w-48"
        disabled={doing.busy}
        value={c.registering.purpose ?? ''}
        onchange={(event) => remember({ purpose: event.currentTarget.value || null })}
        ><option value="">choose</option>{#each c.purposes as one (one)}<option value={one}>{one}</option>{/each}</select
      >
    </p>
  {/if}
  {#if c.purposes.length > 0 && c.registering.purpose === null}<p class="text-warning mb-1">
      Some steps depend on it and are not shown yet.
    </p>{/if}
  <p class="text-sm text-base-content/70 mb-1" role="status">
    {left === 0 ? 'All steps are done.' : `${left} of ${c.guide.length} steps left.`}
  </p>
  <ol class="mb-2">
    {#each c.guide as step, at (step.title)}
      <li class="border-t border-base-300 py-2 flex gap-3">
        <input
          type="checkbox"
          class="checkbox checkbox-sm mt-1"
          id={`step-${at}`}
          checked={step.done}
          disabled={doing.busy}
          onchange={(event) => tick(step.title, event.currentTarget.checked)}
        />
        <div class="min-w-0">
          <label for={`step-${at}`} class={['font-semibold', step.done && 'text-base-content/70']}>{at + 1}. {step.title}</label
          >{#if step.side === 'api'}
            <span class="text-sm text-base-content/70">on the API’s side</span>{/if}
          {#if step.where}<p class="text-sm text-base-content/70">
              At the provider: {step.where}{#if step.page && !step.page.includes('{')}. <a
                  class="link"
                  href={step.page}
                  target="_blank"
                  rel="noopener">Open that page</a
                >{/if}
            </p>{/if}
          <p class="break-words" data-step>{step.does}</p>
          {#each step.values as one (one.name)}<p class="my-0.5"><Copy value={one.value} label={nameOf(one.name)} /></p>{/each}
          <GuideEntry client={c} {step} {done} />
          {#if step.missing.length > 0}<p class="text-warning">
              <strong>Still missing:</strong>
              {step.missing.map(nameOf).join(', ')}. Enter it first.
              {#if isAnswered(step)}<a class="link" href="#/settings">Answers for forms</a> are entered once.{/if}
            </p>{/if}
          {#if step.do_not_confuse}<p class="text-sm"><strong>Don’t confuse with:</strong> {step.do_not_confuse}</p>{/if}
          {#if step.leave_empty}<p class="text-sm"><strong>Leave empty, or else:</strong> {step.leave_empty}</p>{/if}
          {#if step.instead}<p class="text-sm"><strong>You may see instead:</strong> {step.instead}</p>{/if}
          {#if step.last_verified}<p class="text-sm text-base-content/70">Last verified on {step.last_verified}.</p>{/if}
        </div>
      </li>
    {/each}
  </ol>
  <ProblemNote problem={doing.problem} />
{/if}
