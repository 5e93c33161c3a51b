<script lang="ts">
  import ChangeDefinition from '../parts/ChangeDefinition.svelte';
  import DefinitionFacts from '../parts/DefinitionFacts.svelte';
  import Time from '../ui/Time.svelte';
  import { push } from 'svelte-spa-router';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import Title from '../parts/Title.svelte';
  import { Action, Query } from '../state/query.svelte.ts';
  import { counted } from '../state/moments.ts';
  import { call } from '../state/session.svelte.ts';

  const { params }: { params: { provider: string } } = $props();
  const key = $derived({ provider: params.provider });
  const loaded = new Query(() => call('showProvider', { params: key }));
  const versions = new Query(() => call('listVersions', { params: key }));
  $effect(() => {
    void params.provider;
    const stops = [loaded.start(), versions.start()];
    return () => stops.forEach((stop) => stop());
  });
  const doing = new Action();
  const p = $derived(loaded.value);
  const current = $derived(versions.value?.items.find((one) => one.current)?.document);
  const remove = () =>
    doing.run(async () => {
      await call('removeProvider', { params: key });
      await push('/providers');
    });
</script>

<Title title={p?.title ?? params.provider} up={{ href: '#/providers', name: 'Providers' }}
  ><a class="btn btn-primary btn-sm" href={`#/providers/${params.provider}/clients/new`}>Start a client</a></Title
>
<ProblemNote problem={loaded.problem ?? doing.problem} />
{#if p}
  <p class="mb-3">{p.about} It has {counted(p.clients, 'client')} and {counted(p.connections, 'connection')}.</p>
  {#if p.ready.length > 0}<p class="text-warning font-semibold mb-3">Missing: {p.ready.join(', ')}.</p>{/if}
  <DefinitionFacts definition={p.definition} />
  <section class="mt-6" aria-labelledby="versions">
    <h2 id="versions" class="mb-1">Versions</h2>
    <ul>
      {#each versions.value?.items ?? [] as one (one.digest + one.saved_at)}<li class="flex gap-3">
          <Time at={one.saved_at} /><span>by {one.saved_by}</span><code>{one.digest.slice(0, 12)}</code>{#if one.current}<strong
              >in use</strong
            >{:else}<details>
              <summary class="cursor-pointer">look</summary>
              <pre class="bg-base-200 p-2 overflow-auto max-h-80">{one.document}</pre>
            </details>{/if}
        </li>{/each}
    </ul>
    {#if current}<details class="mt-3">
        <summary class="cursor-pointer font-semibold">Change the definition</summary>
        <div class="mt-2">
          {#key current}<ChangeDefinition
              provider={params.provider}
              document={current}
              done={() => Promise.all([loaded.load(), versions.load()])}
            />{/key}
        </div>
      </details>{/if}
  </section>
  {#if p.clients === 0}<button class="btn btn-sm btn-outline btn-error mt-6" disabled={doing.busy} onclick={remove}
      >Remove this provider</button
    >{/if}
{:else if !loaded.problem}<p aria-busy="true">Loading…</p>{/if}
