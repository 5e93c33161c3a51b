import { Fault } from '../../core/fault.ts';
import { base64url } from '../../core/identifiers.ts';
import { approvalChange, approvalQuestion, approvalSeen, type SeenApproval } from '../../core/oauth/approval-check.ts';
import { readTokenOutcome } from '../../core/oauth/token-answer.ts';
import { tokenRequest } from '../../core/oauth/token-request.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { requestDeadlineMs } from '../../core/renewal/plan.ts';
import type { Command } from '../operation-call.ts';
import { refuseUnconfirmed, registeringOf, unconfirmedOf } from '../records/index.ts';
import { evidenceText } from '../renewal/index.ts';
import type { ClientRow } from '../store/clients.ts';
import { clientLabel, findClient } from './clients.ts';
import type { ClientParts } from './parts.ts';

/** Approval on its axis: what was sent, and whether it has come, asked of the token endpoint where that tells. */
const MAX_REQUESTS = 50;
const AT_ONCE = 20;
const day = (instant: number): string => new Date(instant).toISOString().slice(0, 10);

/** Keeps what was sent by a form, word by word, and that approval is requested. */
export async function recordRequest(s: ClientParts, { params, body: sent, actor }: Command<'recordRequest'>): Promise<void> {
  const { provider, client: name } = params;
  const operator = actor.operator.name;
  const { record } = await findClient(s, provider, name);
  const registering = registeringOf(record);
  const sentOn = sent.requested_on ?? day(s.ports.clock.now());
  const requests = [...registering.requests, { form: sent.form, sent_on: sentOn, sent_by: operator, answers: sent.answers }].slice(-MAX_REQUESTS);
  const asks = record.approval !== 'approved' && record.approval !== 'not_needed';
  const changed = await s.store.clients.revise(record, {
    ...(asks ? { approval: 'requested' } : {}),
    registering: { ...registering, requests, requested_on: sentOn, request_form: sent.form, expected_on: sent.expected_on ?? registering.expected_on },
  });
  if (!changed) throw new Fault('REVISION_CONFLICT');
  s.history.add({
    actor: operator,
    kind: 'request_sent',
    subject: `client:${clientLabel(provider, name)}`,
    says: `Sent the form \u201c${sent.form}\u201d, ${sent.answers.length === 1 ? 'one answer' : `${sent.answers.length} answers`}.`,
  });
}

/** Asks now. @throws {Fault} APPROVAL_NOT_REPORTED where the provider has no way to tell, or did not. */
export async function checkApproval(s: ClientParts, { params, actor }: Command<'checkApproval'>): Promise<void> {
  const { provider, client: name } = params;
  const operator = actor.operator.name;
  const { record, definition } = await findClient(s, provider, name);
  if (!definition.dialect.approval_check)
    throw new Fault('APPROVAL_NOT_REPORTED', {
      detail: `The token endpoint of ${definition.title} does not tell whether a client is approved.`,
      remedy: 'Check the client\u2019s page at the provider, then enter the result here.',
    });
  refuseUnconfirmed(unconfirmedOf(record, definition));
  const { seen, evidence } = await ask(s, record, definition);
  if (seen === null) throw new Fault('APPROVAL_NOT_REPORTED', { detail: `The answer was: ${evidence}.`, remedy: 'Ask again later; nothing was changed.' });
  await keep(s, record, definition, { seen, evidence, actor: operator });
}

async function ask(s: ClientParts, record: ClientRow, definition: ProviderDefinition): Promise<{ seen: SeenApproval | null; evidence: string }> {
  const question = approvalQuestion(definition, `approval-check-${base64url(s.ports.random.bytes(9))}`);
  const [credentials] = (await s.contexts.credentialsOf(record.id, definition)).inOrder;
  if (!question || !credentials || record.clientId === null || definition.server.token_endpoint.includes('{'))
    return { seen: null, evidence: 'the client has no id or secret yet' };
  const once = { now: s.ports.clock.now(), deadlineMs: requestDeadlineMs(s.settings.limits, null), jti: base64url(s.ports.random.bytes(16)) };
  const answer = readTokenOutcome(await s.ports.send(await tokenRequest(definition, credentials, question, once)), definition.dialect);
  return { seen: approvalSeen(definition, answer), evidence: evidenceText(answer.evidence) };
}

async function keep(
  s: ClientParts,
  record: ClientRow,
  definition: ProviderDefinition,
  { seen, evidence, actor }: { seen: SeenApproval; evidence: string; actor: string },
): Promise<void> {
  const now = s.ports.clock.now();
  const label = clientLabel(definition.name, record.name);
  const registering = registeringOf(record);
  const changed = await s.store.clients.seeApproval(record, {
    approval: seen,
    approvalSeenAt: now,
    approvalEvidence: evidence.slice(0, 500),
    ...(seen === 'approved' && registering.approved_on === null ? { registering: { ...registering, approved_on: day(now) } } : {}),
  });
  if (!changed || seen === record.approval) return;
  s.history.add({
    actor,
    kind: 'approval_changed',
    subject: `client:${label}`,
    says: approvalChange(record.approval, seen),
    data: { approval: seen },
  });
  await s.changes.announce('client', record.name);
}

/**
 * Looks at every client whose approval is awaited, each once in `everyMs`, on whichever replica gets to it first: the row is claimed by
 * a conditional update. Ends when told to stop.
 */
export async function watchApprovals(s: ClientParts, everyMs: number, stop: AbortSignal): Promise<void> {
  const pauseMs = Math.min(60_000, Math.max(500, Math.floor(everyMs / 4)));
  while (!stop.aborted) {
    try {
      await lookAround(s, everyMs, stop);
    } catch (cause) {
      s.ports.log.error({ event: 'approvals.round_failed', cause: cause instanceof Error ? cause.message : 'unknown' }, 'looking for approvals failed');
    }
    await s.ports.sleep(pauseMs, stop);
  }
}

async function lookAround(s: ClientParts, everyMs: number, stop: AbortSignal): Promise<void> {
  const rows = await s.store.clients.awaitingApproval(everyMs, AT_ONCE);
  for (const row of rows) {
    if (stop.aborted) return;
    if (!(await s.store.clients.claimApproval(row.id, everyMs))) continue;
    const { record, definition } = await findClient(s, row.provider, row.name);
    if (!definition.dialect.approval_check || unconfirmedOf(record, definition).length > 0) continue;
    const { seen, evidence } = await ask(s, record, definition);
    if (seen !== null) await keep(s, record, definition, { seen, evidence, actor: 'service' });
    else await s.store.clients.change(record.id, { approvalEvidence: evidence.slice(0, 500) });
  }
}
