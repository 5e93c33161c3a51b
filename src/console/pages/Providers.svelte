<script lang="ts">
  import Plus from '@lucide/svelte/icons/plus';
  import { onMount } from 'svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import RehearsalMark from '../parts/RehearsalMark.svelte';
  import StateMark from '../parts/StateMark.svelte';
  import Title from '../parts/Title.svelte';
  import { Query } from '../state/query.svelte.ts';
  import { call, session } from '../state/session.svelte.ts';

  const loaded = new Query(async () => {
    const [providers, clients] = await Promise.all([call('listProviders'), call('listClients')]);
    return providers.items.map((provider) => ({ provider, clients: clients.items.filter((client) => client.provider === provider.name) }));
  }, 5_000);
  onMount(() => loaded.start());
</script>

<Title title="Providers"
  ><a class="btn btn-sm" href="#/privilege">Privilege</a>{#if session.may('addProvider')}<a
      class="btn btn-primary btn-sm"
      href="#/providers/new"><Plus size={16} aria-hidden="true" />Add a provider</a
    >{/if}</Title
>
<ProblemNote problem={loaded.problem} />
{#if loaded.value?.length === 0}
  <p>
    No providers yet. A provider is whoever issues the tokens, with the APIs they open; one definition file describes it. <a
      class="link link-primary"
      href="#/providers/new">Add the first one</a
    >.
  </p>
{:else if loaded.value}
  {#each loaded.value as { provider, clients } (provider.name)}
    <section class="mb-6" aria-labelledby={`p-${provider.name}`}>
      <div class="flex items-baseline gap-3 mb-1">
        <h2 id={`p-${provider.name}`}><a class="link" href={`#/providers/${provider.name}`}>{provider.title}</a></h2>
        <span class="text-base-content/70">{provider.about}</span>
      </div>
      <table class="list-table">
        <thead
          ><tr
            ><th class="w-48">Client</th><th class="w-40">State</th><th class="w-44">Environment</th><th>Client id</th><th
              class="text-right w-28">Connections</th
            ></tr
          ></thead
        >
        <tbody>
          {#each clients as client (client.name)}
            <tr
              ><td data-label="Client" class="font-semibold"
                ><a class="link" href={`#/providers/${provider.name}/clients/${client.name}`}>{client.name}</a>
                <span class="font-normal">{client.title}</span></td
              ><td data-label="State"><StateMark state={client.state} /></td><td data-label="Environment"
                >{client.environment}{#if client.rehearsal_port !== null}{' '}<RehearsalMark />{/if}</td
              ><td data-label="Client id" class="mono break-all">{client.client_id ?? '–'}</td><td
                data-label="Connections"
                class="text-right tabular-nums">{client.connections}</td
              ></tr
            >
          {:else}<tr><td colspan="5">No client yet.</td></tr>{/each}
        </tbody>
      </table>
      <p class="mt-1"><a class="link" href={`#/providers/${provider.name}/clients/new`}>Start a client</a></p>
    </section>
  {/each}
{:else if !loaded.problem}<p aria-busy="true">Loading…</p>{/if}
