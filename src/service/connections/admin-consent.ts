import type { z } from 'zod';
import type { CheckedAdminConsent, Connection } from '../../api/connections.ts';
import { Fault } from '../../core/fault.ts';
import { base64url } from '../../core/identifiers.ts';
import { own } from '../../core/json.ts';
import { isClientsOwn } from '../../core/oauth/grant-kinds.ts';
import { readTokenOutcome } from '../../core/oauth/token-answer.ts';
import { joinScopes, tokenRequest } from '../../core/oauth/token-request.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { requestDeadlineMs } from '../../core/renewal/plan.ts';
import { connectionDefinition } from '../grants/index.ts';
import type { Command } from '../operation-call.ts';
import { refuseUnconfirmed } from '../records/index.ts';
import { evidenceText } from '../renewal/index.ts';
import type { ClientRow } from '../store/clients.ts';
import type { ListedConnection } from '../store/connection-rows.ts';
import { findKnown } from './find.ts';
import type { ConnectionParts } from './parts.ts';

/** Admin consent in advance: a link and a text for whoever may give it, and a look whether they did. */
export function adminConsentView(definition: ProviderDefinition, client: ClientRow, one: ListedConnection): Connection['admin_consent'] {
  const scopes = definition.scopes.filter((scope) => scope.organization && one.scopes.includes(scope.name));
  const told = definition.dialect.admin_consent;
  if (scopes.length === 0 || !told || client.clientId === null) return null;
  const fill: Record<string, string> = {
    client_id: client.clientId,
    scopes: joinScopes(
      definition.dialect,
      scopes.map((scope) => scope.name),
    ),
    redirect_uri: client.redirectUri,
  };
  const link = told.page.replace(/\{(\w+)\}/g, (all, name: string) => (own(fill, name) === undefined ? all : encodeURIComponent(own(fill, name) ?? '')));
  const text = [
    `We connect \u201c${client.title || client.name}\u201d to ${definition.title}. Some of what it needs must be consented for the whole organization:`,
    ...scopes.map((scope) => `\u2013 ${scope.says} (${scope.name})`),
    `${told.says ? `${told.says} ` : ''}Please open this page, sign in, and consent:`,
    link,
  ].join('\n');
  return { scopes: scopes.map((scope) => scope.name), link, text, check: isClientsOwn(one.grantType) };
}

/** Asks the token endpoint as the client would, and keeps nothing: a token says yes. @throws {Fault} INPUT_INVALID where only a person's consent tells */
export async function checkAdminConsent(s: ConnectionParts, { params, actor }: Command<'checkAdminConsent'>): Promise<z.output<typeof CheckedAdminConsent>> {
  const { connection: name } = params;
  const operator = actor.operator.name;
  const one = await findKnown(s, name);
  const { definition, record, unconfirmed } = await connectionDefinition(s, one);
  const view = adminConsentView(definition, record, one);
  if (!view) throw new Fault('NOT_FOUND', { detail: 'Nothing that this connection asks for needs the agreement of the whole organization.' });
  if (!isClientsOwn(one.grantType))
    throw new Fault('INPUT_INVALID', {
      detail: 'Only a person\u2019s consent shows whether the organization has consented.',
      places: [{ path: 'grant_type', why: one.grantType }],
      remedy: 'Open the connection: it shows it at once if the agreement is missing.',
    });
  refuseUnconfirmed(unconfirmed);
  const [credentials] = (await s.contexts.credentialsOf(record.id, definition)).inOrder;
  if (!credentials) throw new Fault('CLIENT_INCOMPLETE');
  const once = { now: s.ports.clock.now(), deadlineMs: requestDeadlineMs(s.settings.limits, null), jti: base64url(s.ports.random.bytes(16)) };
  const asks =
    one.grantType === 'jwt_bearer'
      ? ({ grantType: 'jwt_bearer', subject: one.expectedAccount ?? '', scopes: one.scopes } as const)
      : ({ grantType: 'client_credentials', scopes: one.scopes } as const);
  const answer = readTokenOutcome(await s.ports.send(await tokenRequest(definition, credentials, asks, once)), definition.dialect);
  const evidence = evidenceText(answer.evidence);
  const refused = answer.evidence.error !== null && (definition.dialect.admin_consent?.rejected.includes(answer.evidence.error) ?? false);
  const consented = answer.kind === 'tokens' ? true : refused ? false : null;
  const says =
    consented === null
      ? 'Unknown: the provider answered something else.'
      : consented
        ? 'The organization has consented: open the connection now.'
        : 'The organization has not consented yet.';
  s.history.add({ actor: operator, kind: 'admin_consent_checked', subject: `connection:${name}`, says: `${says} (${evidence})` });
  return { consented, says, evidence };
}
