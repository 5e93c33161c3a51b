<script lang="ts">
  import type { Client } from '../../../api/clients.ts';
  import type { AnswerOf } from '../../../api/operations.ts';
  import { Action } from '../../state/query.svelte.ts';
  import { call } from '../../state/session.svelte.ts';
  import Field from '../../ui/Field.svelte';
  import ProblemNote from '../ProblemNote.svelte';

  /** A page of notes, sorted into the fields of a client; saved only on request. */
  const { client: c, done }: { client: Client; done: () => unknown } = $props();
  let notes = $state('');
  let sorted = $state.raw<AnswerOf<'sortNotes'> | null>(null);
  const sorting = new Action();
  const sort = (apply: boolean) =>
    sorting.run(async () => {
      sorted = await call('sortNotes', { params: { provider: c.provider, client: c.name }, body: { text: notes, apply } });
      if (!apply) return;
      notes = '';
      await done();
    });
</script>

<details class="mt-3">
  <summary class="cursor-pointer">Or paste all your notes</summary>
  <div class="max-w-xl mt-2">
    <Field
      id="pasted-notes"
      label="Your notes"
      help="Id, secret, tenant, redirect URI, scopes, expiration date: as lines, a table, .env or JSON. Nothing is saved yet."
      ><textarea
        id="pasted-notes"
        class="textarea w-full mono h-28"
        spellcheck="false"
        autocomplete="off"
        bind:value={notes}
        oninput={() => (sorted = null)}></textarea></Field
    >
    <button class="btn btn-sm" disabled={sorting.busy || !notes.trim()} onclick={() => sort(false)}>Sort it</button>
    {#if sorted}
      <ul class="my-2">
        {#each sorted.found as one (`${one.line}${one.field}`)}<li>
            Line {one.line}: <strong>{one.name}</strong> <code class="break-all">{one.shows}</code>
            <span class="text-base-content/70">{one.why}</span>{#if one.saved}
              <strong class="text-success">saved</strong>{/if}
          </li>{:else}<li>Nothing in it fits a field of this provider.</li>{/each}{#if sorted.unsorted.length > 0}<li
            class="text-base-content/70"
          >
            Lines that fit nothing: {sorted.unsorted.join(', ')}
          </li>{/if}
      </ul>
      {#if notes.trim() && sorted.found.length > 0}<button class="btn btn-sm btn-primary" disabled={sorting.busy} onclick={() => sort(true)}
          >Save what was found</button
        >{/if}
    {/if}
    <ProblemNote problem={sorting.problem} />
  </div>
</details>
