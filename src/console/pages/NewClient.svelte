<script lang="ts">
  import Form from '../ui/Form.svelte';
  import { onMount } from 'svelte';
  import { push } from 'svelte-spa-router';
  import { clientTypesOf } from '../../core/provider/client-types.ts';
  import Field from '../ui/Field.svelte';
  import Placeholders from '../parts/Placeholders.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import Title from '../parts/Title.svelte';
  import { Action, Query } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';

  const { params }: { params: { provider: string } } = $props();
  let name = $state('');
  let rehearsal = $state('');
  let title = $state('');
  let environment = $state<'development' | 'sandbox' | 'live'>('live');
  const provider = new Query(() => call('showProvider', { params }));
  onMount(() => provider.start());
  const definition = $derived(provider.value?.definition);
  const TYPES = {
    web: 'Web: has a secret, people come back to this service',
    desktop: 'Desktop: comes back to the engineer’s own machine',
    public: 'Public: has no secret',
    service_account: 'Service account: no user signs in',
    printed_code: 'Printed code: the provider’s console prints it',
  };
  let type = $state<keyof typeof TYPES | ''>('');
  const chosen = $derived(type || definition?.registration.client_types[0] || 'web');
  const variant = $derived(definition?.variants.find((one) => one.environments.includes(environment)));
  let values = $state<Record<string, string>>({});
  const saving = new Action();
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    void saving.run(async () => {
      await call('addClient', {
        body: {
          provider: params.provider,
          name: name.trim(),
          title: title.trim(),
          type: chosen,
          environment,
          placeholders: $state.snapshot(values),
          rehearsal_port: rehearsal ? Number(rehearsal) : null,
        },
      });
      await push(`/providers/${params.provider}/clients/${name.trim()}`);
    });
  };
</script>

<Title title="Start a client" up={{ href: `#/providers/${params.provider}`, name: params.provider }} />
<p class="max-w-xl mb-3">
  A client is our registration at the provider. It starts as a draft: you get the redirect URI first, register it at the provider, and come
  back with the id and the secret.
</p>
<Form {saving} class="max-w-xl" onsubmit={submit}>
  <Field id="name" problem={saving.problem} path="name" label="Name" help="It becomes part of the redirect URI and never changes."
    ><input id="name" class="input w-full mono" required pattern="[a-z][a-z0-9\-]*" maxlength="41" bind:value={name} /></Field
  >
  <Field id="title" problem={saving.problem} path="title" label="Title" help="Optional; for people."
    ><input id="title" class="input w-full" maxlength="80" bind:value={title} /></Field
  >
  {#if definition}
    {#if clientTypesOf(definition).length > 1}<Field id="type" label="Type"
        ><select id="type" class="select w-full" bind:value={type}
          >{#each clientTypesOf(definition) as one (one)}<option value={one}>{TYPES[one]}</option>{/each}</select
        ></Field
      >
    {:else}<p class="mb-3"><span class="font-semibold">Type</span> {TYPES[chosen]}</p>{/if}
  {/if}
  <Field id="environment" label="Environment" help={variant ? `${variant.title}: ${variant.says}` : ''}
    ><select id="environment" class="select w-full" bind:value={environment}
      ><option value="development">development</option><option value="sandbox">sandbox</option><option value="live">live</option></select
    ></Field
  >
  {#if definition}<Placeholders {definition} level="client" {environment} bind:values />{/if}
  <details class="mb-3">
    <summary class="cursor-pointer">A rehearsal, before the provider has approved anything</summary>
    <div class="mt-2">
      <Field
        id="rehearsal"
        label="Port of the simulated provider"
        help={`Start one on this machine: rk standin FILE, with the definition of ${params.provider}. It prints its port.`}
        ><input id="rehearsal" class="input w-32 mono" inputmode="numeric" pattern="[0-9]{'{'}1,5{'}'}" bind:value={rehearsal} /></Field
      >
    </div>
  </details>
  <ProblemNote problem={provider.problem ?? saving.problem} />
  <button class="btn btn-primary" disabled={saving.busy}>Start the draft</button>
</Form>
