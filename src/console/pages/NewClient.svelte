<script lang="ts">
  import { onMount } from 'svelte';
  import { push } from 'svelte-spa-router';
  import Field from '../parts/Field.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import Title from '../parts/Title.svelte';
  import { Doing, Loaded } from '../state/loaded.svelte.ts';
  import { call } from '../state/session.svelte.ts';

  const { params }: { params: { provider: string } } = $props();
  let name = $state('');
  let title = $state('');
  let environment = $state<'development' | 'sandbox' | 'live'>('live');
  const provider = new Loaded(() => call('showProvider', { params }));
  onMount(() => provider.start());
  const asked = $derived(provider.value?.definition.placeholders ?? []);
  let values = $state<Record<string, string>>({});
  const saving = new Doing();
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    void saving.run(async () => {
      await call('addClient', { body: { provider: params.provider, name: name.trim(), title: title.trim(), environment, placeholders: $state.snapshot(values) } });
      await push(`/providers/${params.provider}/clients/${name.trim()}`);
    });
  };
</script>

<Title title="Start a client" up={{ href: `#/providers/${params.provider}`, name: params.provider }} />
<p class="max-w-xl mb-3">A client is our registration at the provider. It starts as a draft: you get the redirect URI first, register it over there, and come back with the id and the secret.</p>
<form class="max-w-md" onsubmit={submit}>
  <Field id="name" label="Name" help="It becomes part of the redirect URI and never changes."><input id="name" class="input w-full mono" required pattern="[a-z][a-z0-9\-]*" maxlength="41" bind:value={name} /></Field>
  <Field id="title" label="Title" help="Optional; for people."><input id="title" class="input w-full" maxlength="80" bind:value={title} /></Field>
  <Field id="environment" label="Environment"><select id="environment" class="select w-full" bind:value={environment}><option value="development">development</option><option value="sandbox">sandbox</option><option value="live">live</option></select></Field>
  {#each asked as one (one.name)}
    <Field id={`p-${one.name}`} label={one.title} help={one.says}><select id={`p-${one.name}`} class="select w-full" required bind:value={values[one.name]}><option value="" disabled selected>choose…</option>{#each one.choices as choice (choice.value)}<option value={choice.value}>{choice.title}</option>{/each}</select></Field>
  {/each}
  <ProblemNote problem={provider.problem ?? saving.problem} />
  <button class="btn btn-primary" disabled={saving.busy}>Start the draft</button>
</form>
