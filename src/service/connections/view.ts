import type { Connection, ConnectionSummary } from '../../api/connections.ts';
import { allows, operationsOf, scopesFor } from '../../core/clients/privilege.ts';
import { isKey } from '../../core/oauth/grant-kinds.ts';
import { waysOf } from '../../core/oauth/ways.ts';
import { probeOf } from '../../core/provider/api.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { compareScopes } from '../../core/scopes/compare.ts';
import { readyOf, weakerClientFor } from '../clients/index.ts';
import { connectionDefinition, lifetimeOf } from '../grants/index.ts';
import { iso, isoOrNull } from '../iso.ts';
import type { Limits } from '../operation-call.ts';
import { summaries, TICKS_SHOWN } from '../records/index.ts';
import { usersOf } from '../usage/index.ts';
import { adminConsentView } from './admin-consent.ts';
import { diagnoseConnection } from './diagnosis.ts';
import { findKnown } from './find.ts';
import type { ConnectionParts } from './parts.ts';
import { capabilitiesView } from './probe.ts';
import { revocationView } from './revoke.ts';
import { standbyView } from './standby.ts';

/** Everything about one connection. @throws {Fault} NOT_FOUND */
export async function showConnection(s: ConnectionParts, name: string, limits?: Limits): Promise<Connection> {
  const one = await findKnown(s, name);
  const [summary] = await summaries(s, [one], TICKS_SHOWN);
  const { definition, record } = await connectionDefinition(s, one);
  const users = await usersOf(s, one.id, limits);
  const probe = probeOf(definition, isKey(one.kind ?? '') ? null : one.scopes);
  const operations = operationsOf(definition).filter((operation) => one.operations.includes(operation.id));
  const grant = one.grantId ? await s.store.grants.byId(one.grantId) : null;
  return {
    ...(summary as ConnectionSummary),
    grant_type: one.grantType,
    grant_kind: one.kind,
    ways: waysOf(definition, record, one.grantType, s.settings.publicUrl),
    takes_key: definition.apis.some((api) => api.static_key),
    opened: one.opened,
    standby: await standbyView(s, one),
    capabilities: capabilitiesView(definition, grant, one.scopes),
    lifetime: await lifetimeOf(s, one.grantId),
    diagnosis: await diagnoseConnection(s, { one, definition, client: record, grant }),
    claims: grant?.claims ?? null,
    admin_consent: adminConsentView(definition, record, one),
    callers_last_used: users,
    scopes_unused: one.grantedScopes && operations.length > 0 ? unusedScopes(definition, one.grantedScopes, operations) : [],
    open_consent: await openConsentOf(s, one.id),
    revocation: await revocationView(s, one.name),
    placeholders: one.placeholders,
    base_url: definition.apis[0]?.base_url ?? '',
    operations: one.operations,
    operations_lacking: operations.filter((operation) => !allows(one.grantedScopes ?? one.scopes, operation)).map((operation) => operation.id),
    weaker_client: await weakerClientFor(s, definition, record, operations),
    scopes_by_themselves: (definition.identity?.needs ?? []).filter((scope) => !one.scopes.includes(scope)),
    scopes_requested: one.scopes,
    scopes_granted: one.grantedScopes,
    scopes_missing: one.grantedScopes ? compareScopes(one.scopes, one.grantedScopes).missing : [],
    expected_account: one.expectedAccount,
    consented_at: isoOrNull(one.consentedAt),
    consented_by: one.consentedBy,
    has_refresh_token: one.hasRefresh,
    scopes_needed: scopesFor(definition.scopes, operations).scopes,
    scopes_registered: record.registeredScopes,
    ready: readyOf(record, definition, { secrets: await s.store.secrets.ofClient(record.id), wanted: one }, s.ports.clock.now()),
    evidence: one.evidence,
    policy: one.policy,
    api_base_url: one.apiBaseUrl,
    reconnect_by: isoOrNull(one.reconnectBy),
    next_renewal_at: isoOrNull(one.nextAt),
    failures: one.failures,
    resource: `${s.settings.publicUrl}/connections/${one.name}`,
    relay_url: `${s.settings.publicUrl}/relay/${one.name}`,
    callers: users.map((user) => user.caller),
    probe: { path: probe?.path ?? '', state: probe ? one.facts.proof : 'not_defined', last: grant?.proofAnswer ?? null },
    revision: one.revision,
    created_at: iso(one.createdAt),
  };
}

/** Granted, and needed by none of the ticked operations nor by our own identity check. */
function unusedScopes(definition: ProviderDefinition, granted: readonly string[], operations: readonly { needs: string[][] }[]): string[] {
  const used = new Set([...operations.flatMap((operation) => operation.needs.flat()), ...(definition.identity?.needs ?? []), 'openid', 'offline_access']);
  const power = (name: string) => definition.scopes.find((scope) => scope.name === name)?.power;
  return granted.filter((scope) => !used.has(scope) && power(scope) !== 'identity');
}

/** A consent that was started and can be gone on with: the newest. */
async function openConsentOf(s: ConnectionParts, connectionId: string): Promise<Connection['open_consent']> {
  const row = await s.store.consents.openOf(connectionId);
  return row && { id: row.id, phase: row.phase, way: row.way, opened_by: row.openedBy, expires_at: iso(row.expiresAt) };
}
