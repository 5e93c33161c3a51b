<script lang="ts">
  import type { ProviderDefinition } from '../../core/provider/definition.ts';
  import { call } from '../state/session.svelte.ts';
  import Field from '../ui/Field.svelte';

  /** Asks for the values of one level, and shows the addresses composed from them as they are typed. */
  interface Props {
    definition: ProviderDefinition;
    level: 'client' | 'connection';
    environment: 'development' | 'sandbox' | 'live';
    values: Record<string, string>;
    others?: Record<string, string>;
  }
  let { definition, level, environment, values = $bindable(), others = {} }: Props = $props();
  const asked = $derived(definition.placeholders.filter((one) => one.level === level));
  let page = $state('');
  let seen = $state.raw<{ addresses: { what: string; address: string }[]; wrong: { path: string; why: string }[] } | null>(null);
  const whyWrong = (name: string) => (values[name] ? seen?.wrong.find((one) => one.path === `placeholders.${name}`)?.why : undefined);
  $effect(() => {
    const body = { environment, placeholders: { ...others, ...$state.snapshot(values) } };
    const timer = setTimeout(async () => {
      seen = await call('composeProvider', { params: { provider: definition.name }, body }).catch(() => null);
    }, 150);
    return () => clearTimeout(timer);
  });
  const read = async () => {
    const answer = await call('composeProvider', {
      params: { provider: definition.name },
      body: { environment, page_address: page },
    }).catch(() => null);
    for (const name of answer?.read ?? []) if (asked.some((one) => one.name === name)) values[name] = answer?.placeholders[name] ?? '';
  };
</script>

{#each asked as one (one.name)}
  <Field id={`p-${one.name}`} label={one.title} help={whyWrong(one.name) ?? one.says}>
    {#if one.choices.length > 0}<select id={`p-${one.name}`} class="select w-full" required bind:value={values[one.name]}
        ><option value="" disabled selected>choose…</option>{#each one.choices as choice (choice.value)}<option value={choice.value}
            >{choice.title}</option
          >{/each}</select
      >
    {:else}<input
        id={`p-${one.name}`}
        class={['input w-full mono', whyWrong(one.name) && 'input-error']}
        required
        placeholder={one.example ?? ''}
        bind:value={values[one.name]}
      />{/if}
  </Field>
{/each}
{#if asked.length > 0}
  <Field id={`page-${level}`} label="Or read them from a page" help="Paste the address of any of the provider’s pages that you have open."
    ><input id={`page-${level}`} class="input w-full mono" bind:value={page} onchange={read} /></Field
  >
  {#if seen}<dl class="facts mb-3 text-sm" aria-live="polite">
      {#each seen.addresses as one (one.what)}<dt>{one.what}</dt>
        <dd class="mono break-all">{one.address}</dd>{/each}
    </dl>{/if}
{/if}
