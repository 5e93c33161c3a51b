<script lang="ts">
  import { Query } from '../../state/query.svelte.ts';
  import { call } from '../../state/session.svelte.ts';
  import { callerBars, hrefOfQuota, quotaTone, RESULT_WORDS } from '../../state/breakdown.ts';
  import { counted } from '../../state/moments.ts';

  /** Who uses what, which quotas run low, how jobs went: bars and squares that lead to their pages. */
  const loaded = new Query(() => call('showBreakdown'), 10_000);
  $effect(() => loaded.start());
  const b = $derived(loaded.value);
  const bars = $derived(callerBars(b?.callers ?? []));
  const TONES = { good: 'bg-success', warn: 'bg-warning', bad: 'bg-error', quiet: 'bg-base-300' };
</script>

{#if b && (bars.length > 0 || b.quotas.length > 0 || b.jobs.length > 0)}
  <div class="grid gap-6 lg:grid-cols-3 mt-5">
    {#if bars.length > 0}
      <section aria-labelledby="busiest">
        <h3 id="busiest" class="font-semibold mb-1">Callers, last 24 hours</h3>
        <p class="text-sm mb-2">
          <span class="inline-block size-2.5 bg-primary" aria-hidden="true"></span> tokens
          <span class="inline-block size-2.5 bg-info ml-2" aria-hidden="true"></span> calls
          <span class="inline-block size-2.5 bg-error ml-2" aria-hidden="true"></span> rejected
        </p>
        <ul>
          {#each bars as one (one.caller)}
            <li class="mb-1.5">
              <div class="flex justify-between gap-3 text-sm">
                <a class="link truncate" href={`#/callers/${one.caller}`}>{one.caller}</a><span class="tabular-nums whitespace-nowrap"
                  >{one.says}</span
                >
              </div>
              <div class="flex h-2 bg-base-200" aria-hidden="true">
                <span class="bg-primary" style:width={`${one.tokens}%`}></span><span class="bg-info" style:width={`${one.relayed}%`}
                ></span><span class="bg-error" style:width={`${one.rejected}%`}></span>
              </div>
            </li>
          {/each}
        </ul>
        {#if b.callers_total > bars.length}<p class="text-sm">
            <a class="link" href="#/callers">All {counted(b.callers_total, 'caller')}</a>
          </p>{/if}
      </section>
    {/if}
    {#if b.quotas.length > 0}
      <section aria-labelledby="quotas">
        <h3 id="quotas" class="font-semibold mb-1">Quotas in use now</h3>
        <ul>
          {#each b.quotas as one (`${one.name} ${one.api} ${one.window} ${one.unit}`)}
            <li class="mb-1.5">
              <div class="flex justify-between gap-3 text-sm">
                <a class="link truncate" href={hrefOfQuota(one)}>{one.name}</a><span class="tabular-nums whitespace-nowrap"
                  >{one.used.toLocaleString('en-US')} of {one.most.toLocaleString('en-US')} {one.unit} a {one.window}</span
                >
              </div>
              <div class="h-2 bg-base-200" aria-hidden="true">
                <div class={['h-full', TONES[quotaTone(one.percent)]]} style:width={`${Math.min(100, one.percent)}%`}></div>
              </div>
            </li>
          {/each}
        </ul>
      </section>
    {/if}
    {#if b.jobs.length > 0}
      <section aria-labelledby="job-runs">
        <h3 id="job-runs" class="font-semibold mb-1">Jobs, last runs</h3>
        <ul>
          {#each b.jobs as one (one.job)}
            <li class="mb-1.5 grid grid-cols-[1fr_auto] items-center gap-3 text-sm">
              <a class="link truncate" href={`#/jobs/${one.job}`}>{one.job}</a>
              <span class="flex gap-0.5">
                {#each one.runs as run (run.number)}<span
                    class={['inline-block h-4 w-2', TONES[RESULT_WORDS[run.result].tone]]}
                    role="img"
                    aria-label={`Run ${run.number}: ${RESULT_WORDS[run.result].label}`}
                    title={`Run ${run.number}: ${RESULT_WORDS[run.result].label}, ${run.records} records`}
                  ></span>{/each}
              </span>
            </li>
          {/each}
        </ul>
      </section>
    {/if}
  </div>
{/if}
