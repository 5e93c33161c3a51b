<script lang="ts">
  import DefinitionFacts from '../parts/DefinitionFacts.svelte';
  import { push } from 'svelte-spa-router';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import Title from '../parts/Title.svelte';
  import { Doing, Loaded } from '../state/loaded.svelte.ts';
  import { call } from '../state/session.svelte.ts';

  const { params }: { params: { provider: string } } = $props();
  const loaded = new Loaded(() => call('showProvider', { params: { provider: params.provider } }));
  $effect(() => {
    void params.provider;
    return loaded.start();
  });
  const doing = new Doing();
  const p = $derived(loaded.value);
  const remove = () =>
    doing.run(async () => {
      await call('removeProvider', { params: { provider: params.provider } });
      await push('/providers');
    });
</script>

<Title title={p?.title ?? params.provider} up={{ href: '#/providers', name: 'Providers' }}><a class="btn btn-primary btn-sm" href={`#/providers/${params.provider}/clients/new`}>Start a client</a></Title>
<ProblemNote problem={loaded.problem ?? doing.problem} />
{#if p}
  <p class="mb-3">{p.about} It has {p.clients} clients and {p.connections} connections.</p>
  <DefinitionFacts definition={p.definition} />
  {#if p.clients === 0}<button class="btn btn-sm btn-outline btn-error mt-6" disabled={doing.busy} onclick={remove}>Remove this provider</button>{/if}
{:else if !loaded.problem}<p aria-busy="true">Reading…</p>{/if}
