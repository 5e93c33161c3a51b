import type { FreshTokens } from '../../core/oauth/token-answer.ts';
import { apiBaseAllowed } from '../../core/provider/api-base.ts';
import { nextRenewalAt } from '../../core/renewal/plan.ts';
import type { Attempt, release } from '../../core/renewal/transitions.ts';
import type { HeldRow } from '../store/held-row.ts';
import type { AttemptParts } from './attempt-parts.ts';
import { tokenLife } from './evidence.ts';
import { canSpend, type GrantContext } from './grant-context.ts';

const LATE_ANSWERS = {
  spare: 'A late answer was put by as a spare: another one was saved first, and is being verified.',
  obsolete: 'A late answer was set aside: a new one was saved, or the grant has ended.',
};

/** Saves what a renewal brought, and lets everything know that depends on it. */
export async function renewed(
  parts: AttemptParts,
  held: HeldRow,
  context: GrantContext,
  { attempt, tokens, sentAt }: { attempt: Attempt; tokens: FreshTokens; sentAt: number },
): Promise<void> {
  const { grantId } = held;
  const { dialect } = context.definition;
  const life = tokenLife(tokens, dialect.assumed_life_seconds, sentAt);
  // Issued from memory at once: the answer is good whether or not the database can take it yet.
  parts.cache.put(grantId, { access: tokens.access, ...life, generation: attempt.generation + 1 });
  const need = { policy: context.policy, paused: context.intent === 'paused', lastUsedAt: context.lastUsedAt };
  const nextAt = nextRenewalAt(life, need, dialect, parts.ports.random.unit());
  const urgent = tokens.refresh !== null && canSpend(context) && dialect.reuse !== 'grace';
  const result = await parts.keeper.save({ grantId, attempt, tokens, life, nextAt, urgent });
  const subject = `connection:${context.connectionName}`;
  if (result !== 'saved') {
    parts.cache.drop(grantId);
    parts.history.add({ actor: 'service', kind: `answer_${result}`, subject, says: LATE_ANSWERS[result] });
    return;
  }
  if (held.row.failures > 0) await parts.noteEvidence(grantId, null);
  if (isNews(held, life.issuedAt)) parts.states.touch(grantId);
  const { apiBaseUrl } = tokens;
  if (apiBaseUrl !== undefined && apiBaseUrl !== context.apiBaseUrl && apiBaseAllowed(context.definition, apiBaseUrl))
    await parts.noteApiBase({ id: grantId, connection: context.connectionName }, apiBaseUrl);
  if (context.clientHealth === 'stopped') await parts.clients.works({ id: context.clientRecordId, name: context.clientName });
  parts.history.add({
    actor: 'service',
    kind: 'renewed',
    subject,
    says: tokens.refresh ? 'Renewed; the provider replaced the refresh token.' : 'Renewed.',
    data: {
      class: 'tokens',
      generation: attempt.generation + 1,
      life_seconds: Math.round((life.expiresAt - life.issuedAt) / 1000),
      rotated: tokens.refresh !== null,
      after_failures: held.row.failures,
    },
  });
}

/** Whether a renewal that went well changes what is shown of the connection: it was not simply working before. */
const isNews = ({ row }: HeldRow, now: number): boolean =>
  row.failures > 0 || row.cause !== null || row.uncertainSince !== null || row.refusedAt !== null || row.expiresAt <= now;

/** Writes a failed attempt: the row's transition, then the evidence; history only where the transition took hold. */
export async function settle(
  parts: AttemptParts,
  context: GrantContext,
  { attempt, failures, transition }: { attempt: Attempt; failures: number; transition: ReturnType<typeof release> },
  event: { kind: string; class: string; says: string; evidence: string; data?: object },
): Promise<void> {
  const took = await parts.store.update([context.grantId], transition);
  parts.states.touch(context.grantId);
  if (took === 0) return; // the epoch or the generation moved on: someone else settled it
  await parts.noteEvidence(context.grantId, event.evidence);
  parts.history.add({
    actor: 'service',
    kind: event.kind,
    subject: `connection:${context.connectionName}`,
    says: event.says,
    data: { class: event.class, failures: failures + 1, generation: attempt.generation, ...event.data },
  });
}
