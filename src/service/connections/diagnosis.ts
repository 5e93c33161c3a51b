import type { Diagnosis } from '../../core/diagnosis/diagnosis.ts';
import { diagnosis } from '../../core/diagnosis/diagnosis.ts';
import { diagnoseTokenRequest } from '../../core/diagnosis/token-request.ts';
import { readTokenOutcome } from '../../core/oauth/token-answer.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { diagnosisInput } from '../grants/index.ts';
import { evidenceText } from '../renewal/index.ts';
import type { ClientRow } from '../store/clients.ts';
import type { ListedConnection } from '../store/connection-rows.ts';
import type { GrantRow } from '../store/grants.ts';
import type { ConnectionParts } from './parts.ts';

/** What the last failure of a connection means: of its renewal, else of the call that should prove it. Null: nothing failed. */
export async function diagnoseConnection(
  s: ConnectionParts,
  { one, definition, client, grant }: { one: ListedConnection; definition: ProviderDefinition; client: ClientRow; grant: GrantRow | null },
): Promise<Diagnosis | null> {
  if (!grant || one.facts.intent === 'revoked') return null;
  const ofRenewal = one.facts.cause === null ? null : await diagnoseRenewal(s, { one, definition, client, grant });
  if (ofRenewal) return ofRenewal;
  const proof = grant.proofAnswer;
  return grant.proof === 'failed' ? (proof?.diagnosis ?? null) : null;
}

/** The newest failed attempt of the wire log, read again as a token answer. Its masked body keeps the error's own words. */
async function diagnoseRenewal(
  s: ConnectionParts,
  { one, definition, client, grant }: { one: ListedConnection; definition: ProviderDefinition; client: ClientRow; grant: GrantRow },
): Promise<Diagnosis | null> {
  const evidence = one.evidence ?? '';
  if (one.facts.cause === 'lost_in_flight')
    return diagnosis('answer_lost', {
      evidence: [evidence],
      title: 'The answer to a renewal was lost in flight, and the provider no longer takes the refresh token that is held.',
      remedy: 'Reconnect: open the connection and consent at the provider.',
    });
  if (one.facts.cause === 'no_refresh_token') return diagnosis('no_refresh_token', { evidence: [] });
  const failed = (await s.wireLog.list(grant.id)).find((attempt) => attempt.kind !== 'tokens');
  if (!failed) return null;
  const { answer, reason, took_ms: tookMs } = failed.record;
  const seen =
    answer === null
      ? { kind: reason === 'timeout' || reason === 'reset' ? ('unclear' as const) : ('unsent' as const), reason: reason ?? 'other', tookMs }
      : {
          kind: 'answer' as const,
          status: answer.status,
          headers: answer.headers,
          body: typeof answer.body === 'string' ? answer.body : JSON.stringify(answer.body),
          cut: false,
          tookMs,
        };
  const outcome = readTokenOutcome(seen, definition.dialect);
  if (outcome.kind === 'tokens') return null;
  const [credentials] = (await s.contexts.credentialsOf(client.id, definition)).inOrder;
  const parties = {
    client,
    definition,
    placeholders: { ...client.placeholders, ...one.placeholders },
    redirectUri: client.redirectUri,
    scopes: one.scopes,
  };
  const own = grant.kind === 'client_credentials' || grant.kind === 'jwt_bearer';
  const asked = await diagnosisInput(s, parties, { grantType: own ? grant.kind : 'refresh_token', credentials: credentials ?? null }, seen);
  return diagnoseTokenRequest({ ...asked, clockAheadMs: clockAhead(answer?.headers.date, failed.at) }, outcome, evidenceText(outcome.evidence));
}

const clockAhead = (date: string | undefined, at: number): number | null =>
  date === undefined || Number.isNaN(Date.parse(date)) ? null : Date.parse(date) - at;
