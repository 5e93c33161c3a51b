<script lang="ts">
  import type { Diagnosis } from '../../api/diagnosis.ts';

  /** Verdict first, then cause, evidence, whose side, remedy. */
  const { diagnosis: d }: { diagnosis: Diagnosis } = $props();
  const VERDICTS = { works: 'It works', no_token: 'No token was given', token_refused: 'The token is refused', right_missing: 'The token is good; a right is missing', call_wrong: 'The token is good; the call is wrong', thing_missing: 'The token is good; the thing does not exist', provider_trouble: 'The provider has trouble of its own', ours: 'It lies with this service', unknown: 'It is not known what is wrong' };
  const HALVES = { client: 'the client’s half', person: 'the person’s half', service_user: 'the service user’s role', organisation: 'the organisation’s half' };
  const SIDES = { person: 'the person who consents', client: 'our registration at the provider', organisation: 'whoever agrees for the organisation', provider: 'the provider', caller: 'whoever makes the call', ours: 'this service' };
</script>

<div class="border-l-4 border-warning bg-base-200 px-4 py-2 my-2 max-w-5xl" role="group" aria-label="Diagnosis">
  <p class="font-semibold">{VERDICTS[d.verdict]}{#if d.half}: {HALVES[d.half]}{/if}</p>
  <p>{d.title}{#if !d.certain}{' '}<span class="text-base-content/70">This is the likeliest of several.</span>{/if}</p>
  {#if d.evidence.length > 0}<ul class="list-disc ml-5 text-sm">{#each d.evidence as line, at (at)}<li class="break-words">{line}</li>{/each}</ul>{/if}
  {#if d.also.length > 0}<p class="text-sm text-base-content/80">It could also be: {d.also.join(' Or: ')}</p>{/if}
  <p><strong>What to do,</strong> at {SIDES[d.side]}: {d.remedy}</p>
</div>
