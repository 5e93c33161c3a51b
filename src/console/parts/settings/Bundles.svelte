<script lang="ts">
  import type { ComparedBundle } from '../../../api/bundles.ts';
  import { Action } from '../../state/query.svelte.ts';
  import { call, session } from '../../state/session.svelte.ts';
  import Field from '../../ui/Field.svelte';
  import { notify } from '../../ui/toast.ts';
  import ProblemNote from '../ProblemNote.svelte';
  import BundleComparison from './BundleComparison.svelte';

  /** A folder of YAML files, compared with this installation; the browser reads it, nothing is stored. */
  let files = $state.raw<{ path: string; text: string }[]>([]);
  let variables = $state('');
  let compared = $state.raw<ComparedBundle | null>(null);
  let [overwrite, remove] = $state([false, false]);
  const doing = new Action();
  const given = () => ({
    files,
    variables: Object.fromEntries(
      [...variables.matchAll(/^\s*([A-Za-z_]\w*)\s*[:=]\s*(.*)$/gm)].map(([, name = '', value = '']): [string, string] => [
        name,
        value.trim(),
      ]),
    ),
  });
  const compare = () => doing.run(async () => void (compared = await call('compareBundle', { body: given() })));
  const choose = async (event: Event & { currentTarget: HTMLInputElement }) => {
    const chosen = [...(event.currentTarget.files ?? [])].filter((file) => /\.ya?ml$/.test(file.name));
    files = await Promise.all(
      chosen.map(async (file) => ({ path: file.webkitRelativePath.split('/').slice(1).join('/') || file.name, text: await file.text() })),
    );
    await compare();
  };
  const bring = () =>
    doing.run(async () => {
      const { digest } = compared ?? {};
      const done = await call('importBundle', { body: { ...given(), overwrite, remove, ...(digest === undefined ? {} : { digest }) } });
      notify(done.reconnect.length > 0 ? `Imported. To connect now: ${done.reconnect.join(', ')}.` : 'Imported.');
      compared = await call('compareBundle', { body: given() });
    });
  const differs = $derived(
    compared !== null &&
      compared.items.some((one) => one.state !== 'same' && one.state !== 'only_here' && (one.state !== 'removed' || remove)),
  );
</script>

{#if !session.may('compareBundle')}<p>Your role does not compare or import bundles.</p>
{:else}
  <p class="mb-3 max-w-2xl">
    A bundle is this set-up as files for version control: providers, clients, connections, callers and jobs, without secrets. Write one with
    <code>rk bundle export FOLDER</code>. <a class="link" href="#/help/how-to.keep-the-set-up-in-files">How to keep the set-up in files</a>
  </p>
  <Field id="bundle-folder" label="Folder with a bundle" help="Your browser reads it; it is compared, and nothing is changed yet"
    ><input id="bundle-folder" type="file" class="file-input w-full max-w-md" webkitdirectory onchange={choose} /></Field
  >
  <Field id="bundle-variables" label="Variables" help="One in each line, such as REGION: north"
    ><textarea id="bundle-variables" class="textarea w-full max-w-md mono" rows="2" bind:value={variables}></textarea></Field
  >
  {#if files.length > 0}<button class="btn btn-sm" disabled={doing.busy} onclick={compare}>Compare again</button>{/if}
  <ProblemNote problem={doing.problem} />
  {#if compared}
    <BundleComparison {compared} />
    {#if compared.problems.length === 0 && (compared.counts.removed > 0 || compared.counts.conflict > 0)}
      <div class="mt-3">
        {#if compared.counts.conflict > 0}<label class="flex gap-2 items-center"
            ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={overwrite} />Overwrite what was edited here</label
          >{/if}
        {#if compared.counts.removed > 0}<label class="flex gap-2 items-center"
            ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={remove} />Remove what is not in the bundle any more</label
          >{/if}
      </div>
    {/if}
    {#if differs && compared.problems.length === 0}<button class="btn btn-primary btn-sm mt-3" disabled={doing.busy} onclick={bring}
        >Import</button
      >{/if}
  {/if}
{/if}
