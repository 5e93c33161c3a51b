<script lang="ts">
  import type { SessionView } from '../../../api/operators.ts';
  import { SESSION_KIND_WORDS } from '../../../api/vocabulary.ts';
  import { Action } from '../../state/query.svelte.ts';
  import { call } from '../../state/session.svelte.ts';
  import Time from '../../ui/Time.svelte';
  import ProblemNote from '../ProblemNote.svelte';

  const { sessions, changed }: { sessions: readonly SessionView[]; changed: () => unknown } = $props();
  const doing = new Action();
  const end = (session: string) =>
    doing.run(async () => {
      await call('endOwnSession', { params: { session } });
      await changed();
    });
</script>

<section class="mt-6 max-w-4xl" aria-labelledby="own-sessions">
  <h2 id="own-sessions">Sessions</h2>
  <ProblemNote problem={doing.problem} />
  <table class="list-table">
    <thead
      ><tr><th>Signed in with</th><th>Signed in</th><th>Last used</th><th>From</th><th><span class="sr-only">Actions</span></th></tr></thead
    >
    <tbody>
      {#each sessions as one (one.id)}
        <tr>
          <td data-label="Signed in with"
            >{SESSION_KIND_WORDS[one.kind]}{one.current ? ', this one' : ''}
            <div class="text-sm text-base-content/70 max-w-80 truncate">{one.agent ?? ''}</div></td
          >
          <td data-label="Signed in"><Time at={one.created_at} /></td>
          <td data-label="Last used"
            >{#if one.last_used_at}<Time at={one.last_used_at} />{:else}never{/if}</td
          >
          <td data-label="From" class="mono">{one.address ?? ''}</td>
          <td class="text-right"
            >{#if !one.current}<button class="btn btn-xs" disabled={doing.busy} onclick={() => end(one.id)}>End session</button>{/if}</td
          >
        </tr>
      {/each}
    </tbody>
  </table>
</section>
