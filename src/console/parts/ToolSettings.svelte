<script lang="ts">
  import Form from '../ui/Form.svelte';
  import type { Caller } from '../../api/callers.ts';
  import { Action } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import Field from '../ui/Field.svelte';
  import Time from '../ui/Time.svelte';
  import ProblemNote from './ProblemNote.svelte';

  /** What is special about the tool behind a caller: its redirect URIs, its token path, and who signed in with it. */
  const { caller: c, done }: { caller: Caller; done: () => unknown } = $props();
  let editing = $state(false);
  let uris = $state('');
  let path = $state('');
  let keepsNone = $state(false);
  let asking = $state<string | null>(null);
  const doing = new Action();
  const edit = () => ([uris, path, keepsNone, editing] = [c.redirect_uris.join('\n'), c.token_path ?? '', c.keeps_no_secret, true]);
  const save = (event: SubmitEvent) => {
    event.preventDefault();
    void doing.run(async () => {
      const body = { redirect_uris: uris.split(/\s+/).filter(Boolean), token_path: path.trim() || null, keeps_no_secret: keepsNone };
      await call('changeCaller', { params: { caller: c.name }, body });
      editing = false;
      await done();
    });
  };
  const end = (sign_in: string) =>
    doing.run(async () => {
      await call('endSignIn', { params: { caller: c.name, sign_in } });
      asking = null;
      await done();
    });
  const WHY: Record<string, string> = {
    operator: 'ended by an operator',
    tool_revoked: 'the tool signed out',
    token_reused: 'ended: its refresh token was used twice, so someone has a copy',
    code_reused: 'ended: its code was used twice, so someone has a copy',
    caller_removed: 'the caller was removed',
    connection_removed: 'the connection was removed',
  };
</script>

{#if editing}
  <Form saving={doing} class="panel px-4 py-3 max-w-2xl mb-2" onsubmit={save} aria-label="The tool">
    <Field
      id="tool-uris"
      label="Redirect URIs of the tool"
      help="One a line, copied from the tool: they are compared character by character. Only for tools that sign in."
      ><textarea id="tool-uris" class="textarea w-full mono" rows="2" bind:value={uris}></textarea></Field
    >
    <Field id="tool-path" label="Token path of its own" help="Such as /acme/token, for tools that build the token URL from fixed boxes."
      ><input id="tool-path" class="input w-full mono" bind:value={path} /></Field
    >
    <label class="flex items-center gap-2 mb-3"
      ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={keepsNone} />It runs where it cannot keep a key (a desktop program,
      a page): at sign-in, PKCE alone verifies it</label
    >
    <ProblemNote problem={doing.problem} />
    <button class="btn btn-primary btn-sm" disabled={doing.busy}>Save</button>
    <button type="button" class="btn btn-sm" onclick={() => (editing = false)}>Cancel</button>
  </Form>
{:else}
  <dl class="facts mb-2">
    <dt>Redirect URIs</dt>
    <dd>
      {#each c.redirect_uris as uri (uri)}<div><code class="break-all">{uri}</code></div>{:else}none: it cannot sign in at sign-in{/each}
    </dd>
    <dt>Token path</dt>
    <dd>
      {#if c.token_path}<code>{c.token_path}</code>{:else}none of its own{/if}
    </dd>
    <dt>Keeps a secret</dt>
    <dd>{c.keeps_no_secret ? 'no: at sign-in, PKCE alone authenticates it' : 'yes: its key'}</dd>
  </dl>
  <ProblemNote problem={doing.problem} />
  <button class="btn btn-sm mb-2" onclick={edit}>Change…</button>
{/if}
{#if c.signed_in.length > 0}
  <table class="list-table max-w-5xl">
    <thead
      ><tr><th>Signed in for</th><th>By</th><th>Since</th><th>Last renewed</th><th>State</th><th><span class="sr-only">End</span></th></tr
      ></thead
    >
    <tbody>
      {#each c.signed_in as one (one.id)}
        <tr>
          <td data-label="Signed in for"><a class="link" href={`#/connections/${one.connection}`}>{one.connection}</a></td><td
            data-label="By">{one.operator}</td
          ><td data-label="Since"><Time at={one.signed_in_at} /></td><td data-label="Last renewed"><Time at={one.last_used_at} /></td>
          <td data-label="State" class={one.ended_at ? 'text-base-content/70' : 'text-success font-semibold'}
            >{one.ended_at ? (WHY[one.ended_why ?? ''] ?? 'ended') : 'signed in'}</td
          >
          <td class="text-right"
            >{#if !one.ended_at}{#if asking === one.id}Its tool must sign in again. <button
                  class="btn btn-xs btn-error"
                  disabled={doing.busy}
                  onclick={() => end(one.id)}>End it</button
                > <button class="btn btn-xs" onclick={() => (asking = null)}>Cancel</button>{:else}<button
                  class="btn btn-xs"
                  onclick={() => (asking = one.id)}>End…</button
                >{/if}{/if}</td
          >
        </tr>
      {/each}
    </tbody>
  </table>
{/if}
