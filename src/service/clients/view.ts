import type { Answers, Client, ClientSecret } from '../../api/clients.ts';
import { secretInWords } from '../../core/clients/choose-secret.ts';
import { privilegeOf } from '../../core/clients/privilege.ts';
import { redirectRemarks } from '../../core/oauth/redirect-rules.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { purposesOf } from '../../core/provider/guide.ts';
import { iso, isoOrNull } from '../iso.ts';
import type { Limits } from '../operation-call.ts';
import { shownAddresses } from '../providers/index.ts';
import { methodOf, missingOf, registeringOf, unconfirmedOf, WAITS_UNTIL } from '../records/index.ts';
import type { ClientRow } from '../store/clients.ts';
import type { SecretRow } from '../store/secrets.ts';
import { clientPage, formOf, guideOf } from './guide.ts';
import type { ClientParts } from './parts.ts';
import { readyOf } from './ready.ts';

function secretView(row: SecretRow, now: number): ClientSecret {
  const facts = row.facts;
  const known = {
    ...row,
    waits: row.tryingUntil !== null && row.tryingUntil >= WAITS_UNTIL,
    kind: row.kind,
    state: row.state,
    enteredAt: row.enteredAt ?? row.startsAt,
  };
  return {
    id: row.id,
    kind: known.kind,
    label: row.label,
    state: known.state,
    says: secretInWords(known, now),
    entered_at: iso(known.enteredAt),
    starts_at: iso(row.startsAt),
    ends_at: isoOrNull(row.endsAt),
    verified_at: isoOrNull(row.provedAt),
    refused_at: isoOrNull(row.refusedAt),
    evidence: row.refusedWhy,
    key: facts
      ? {
          type: facts.type,
          kid: facts.keyId === undefined ? facts.kid : facts.keyId,
          thumbprint: facts.kid,
          algorithm: facts.algorithm ?? null,
          x5t: facts.x5t,
          x5t_s256: facts.x5tS256,
          subject: facts.subject,
        }
      : null,
  };
}

/** One word by precedence, with cause and remedy. */
function stateOf(record: ClientRow, missing: string[], unconfirmed: string[], verified: boolean): Pick<Client, 'state' | 'cause' | 'remedy'> {
  const says = (state: Client['state'], cause: string | null, remedy: string | null) => ({ state, cause, remedy });
  if (record.stage === 'retired') return says('retired', 'It was retired.', 'Use another client.');
  if (missing.length > 0)
    return says(
      'draft',
      `Missing: ${missing.join(' and ')}.`,
      'Register the client at the provider with the redirect URI shown, then enter what it gives you.',
    );
  if (unconfirmed.length > 0)
    return says(
      'stopped',
      `New addresses are not confirmed: ${unconfirmed.join(', ')}. Nothing is sent to them.`,
      'If they are the provider\u2019s, confirm them with your own password.',
    );
  if (record.health === 'stopped')
    return says(
      'stopped',
      `The provider rejects this client: ${record.evidence ?? 'no evidence kept'}.`,
      'Compare the client id, and enter the secret again as the provider shows it now.',
    );
  switch (record.approval) {
    case 'rejected':
      return says('rejected', 'The provider rejected its approval.', 'Request it again at the provider, or use another client.');
    case 'info_requested':
      return says('info_requested', 'The provider requested more information.', 'Answer it; then enter that here.');
    case 'requested':
      return says('requested', 'Its approval was requested and has not come.', 'Wait; connections may be rejected until then.');
    case 'not_requested':
      return says('not_requested', 'The provider wants to approve clients, and nobody has asked yet.', 'Ask for approval on the provider\u2019s page.');
    default:
      return verified
        ? says('working', null, null)
        : says('ready', 'No request was made with it yet.', 'Open a connection: its first token request verifies the client.');
  }
}

export async function clientView(
  s: Pick<ClientParts, 'store' | 'ports'>,
  record: ClientRow,
  definition: ProviderDefinition,
  { answers, limits }: { answers: Answers; limits: Limits },
): Promise<Client> {
  const [secrets, hasTokens, counted] = await Promise.all([
    s.store.secrets.ofClient(record.id),
    s.store.connections.hasTokens(record.id),
    s.store.connectionList.countStates(limits),
  ]);
  const connections = counted.filter((one) => one.clientId === record.id).reduce((sum, one) => sum + one.count, 0);
  const now = s.ports.clock.now();
  const kept = secrets.filter((one) => one.state !== 'retired');
  const newest = kept.filter((one) => one.state === 'active').at(-1) ?? kept.at(-1);
  const missing = missingOf(record, definition, secrets, now);
  const unconfirmed = unconfirmedOf(record, definition);
  const registered = record.registeredScopes;
  // A request that went well: it verified a secret; without any, it brought tokens.
  const verified = secrets.some((one) => one.provedAt !== null) || hasTokens;
  const { requests, ...registering } = registeringOf(record);
  const privilege = privilegeOf(definition.scopes, registered, record.type);
  return {
    provider: definition.name,
    provider_title: definition.title,
    name: record.name,
    title: record.title,
    type: record.type,
    environment: record.environment,
    variant:
      definition.variants.find((one) => (record.variant === null ? one.environments.includes(record.environment) : one.name === record.variant))?.name ?? null,
    placeholders: record.placeholders,
    addresses: shownAddresses(definition),
    client_id: record.clientId,
    method: methodOf(record, definition),
    methods: definition.server.token_endpoint_auth_methods_supported,
    redirect_uri: record.redirectUri,
    registration_page: definition.registration.page?.includes('{') ? null : (definition.registration.page ?? null),
    client_page: clientPage(record, definition, registering),
    rehearsal_port: record.rehearsalPort,
    ready: readyOf(record, definition, { secrets, wanted: null }, now),
    form: formOf(definition, answers),
    requests,
    redirect_rules: redirectRemarks(record.redirectUri, definition.registration.redirect_uri, registering.domains_there).map((one) => one.says),
    words: definition.words as Record<string, string>,
    ...stateOf(record, missing, unconfirmed, verified),
    stage: record.stage,
    approval: record.approval,
    approval_told: definition.dialect.approval_check !== undefined,
    approval_seen_at: isoOrNull(record.approvalSeenAt),
    approval_evidence: record.approvalEvidence,
    reach: record.reach,
    reach_says: definition.reach.find((one) => one.reach === record.reach)?.says ?? null,
    listed_accounts: record.listedAccounts,
    health: record.health,
    missing,
    guide: guideOf(record, definition, { secrets, answers, registering }),
    purposes: purposesOf(definition),
    registering,
    unconfirmed_origins: unconfirmed,
    registered_scopes: registered,
    privilege: { power: privilege.power, acts_for_itself: privilege.actsForItself, unlisted: privilege.unlisted, says: privilege.says },
    secret: newest
      ? { entered_at: iso(newest.enteredAt ?? newest.startsAt), ends_at: isoOrNull(newest.endsAt), in_use: kept.filter((one) => one.state === 'active').length }
      : null,
    secrets: secrets.map((one) => secretView(one, now)).reverse(),
    connections,
    revision: record.revision,
  };
}
