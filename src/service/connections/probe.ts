import type { CallAnswer } from '../../api/common.ts';
import type { Connection } from '../../api/connections.ts';
import { Fault } from '../../core/fault.ts';
import { isClientsOwn, isKey } from '../../core/oauth/grant-kinds.ts';
import { capabilitiesOf, probeOf } from '../../core/provider/api.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { type Callable, callableWith, callGrant, isGood, keepProof, readIdentity } from '../grants/index.ts';
import { iso } from '../iso.ts';
import type { Command } from '../operation-call.ts';
import type { GrantRow, KeptCapability } from '../store/grants.ts';
import { current, refusePaused } from './find.ts';
import type { ConnectionParts } from './parts.ts';

/** The grant in use. @throws {Fault} CONNECTION_NOT_CONSENTED, CONNECTION_PAUSED, ORIGIN_UNCONFIRMED */
export async function callableNow(s: ConnectionParts, name: string): Promise<Callable & { connectionId: string }> {
  const { one, grantId } = await current(s, name);
  refusePaused(one);
  const [grant, connection] = await Promise.all([s.store.grants.byId(grantId), s.store.connections.byId(one.id)]);
  if (!grant || !connection) throw new Fault('CONNECTION_NOT_CONSENTED');
  return { ...(await callableWith(s, grant, connection)), connectionId: connection.id };
}

/** The call that verifies the connection, or one of its capabilities; its answer is kept on the grant. */
export async function probeConnection(s: ConnectionParts, { params, body: input, actor }: Command<'probeConnection'>): Promise<CallAnswer> {
  const { connection: name } = params;
  const operator = actor.operator.name;
  const { definition, about, grant } = await callableNow(s, name);
  const grantId = grant.id;
  const all = capabilitiesOf(definition);
  const usual = probeOf(definition, isKey(grant.kind) ? null : about.scopesRequested);
  const chosen = input.capability === undefined ? all.find(({ probe }) => probe === usual) : all.find((one) => one.name === input.capability);
  if (!chosen)
    throw new Fault('NOT_FOUND', {
      detail:
        all.length === 0
          ? `The definition of ${definition.title} names no probe.`
          : input.capability === undefined
            ? 'The scopes of this connection allow none of the calls by which it could be verified.'
            : `Its probes: ${all.map((one) => one.name).join(', ')}.`,
      remedy: 'Call a path of your choice instead.',
    });
  const { probe } = chosen;
  if (probe.effects && !input.effects)
    throw new Fault('INPUT_INVALID', {
      detail: `${probe.method} ${probe.path} changes something at ${definition.title}, or someone sees it.`,
      places: [{ path: 'effects', why: 'was not said' }],
      remedy: 'Send `effects: true` to confirm.',
    });
  const address = { url: `${chosen.api.base_url.replace(/\/$/, '')}${probe.path}`, api: chosen.api };
  const body = probe.body ?? (probe.method === 'POST' || probe.method === 'PUT' ? '{}' : undefined);
  const answer = await callGrant(s, { grant, address, what: { method: probe.method, body }, about: { ...about, needs: probe.needs } });
  if (isGood(answer, definition)) await readAccountAgain(s, grant, definition, name);
  if (probe === usual) await keepProof(s, grantId, answer, definition);
  else await keepCapability(s, grantId, { capability: chosen.name, answer }, definition);
  if (probe.effects)
    s.history.add({
      actor: operator,
      kind: 'called',
      subject: `connection:${name}`,
      says: `Verified \u201c${chosen.name}\u201d: ${probe.method} ${probe.path} answered ${answer.status ?? answer.reason}.`,
    });
  return answer;
}

/** Who consented is asked once more where it could not be read at the consent: the API that shows it may have been opened since. */
async function readAccountAgain(s: ConnectionParts, grant: GrantRow, definition: ProviderDefinition, name: string): Promise<void> {
  if (grant.accountLabel !== null || isClientsOwn(grant.kind) || isKey(grant.kind)) return;
  const { access } = await s.apiTokens.get(grant.id, { definition, session: null });
  const { account, opened } = await readIdentity(s.ports, definition, { access }, { scopes: [], clientId: '', nonce: null });
  if (!account) return;
  await s.store.grants.change(grant.id, { accountId: account.id, accountLabel: account.label, opened: opened ?? grant.opened });
  s.history.add({ actor: 'service', kind: 'account_read', subject: `connection:${name}`, says: `Read who consented: ${account.label}.` });
  await s.changes.announce('connection', name);
}

async function keepCapability(
  s: Pick<ConnectionParts, 'store'>,
  grantId: string,
  { capability, answer }: { capability: string; answer: CallAnswer },
  definition: ProviderDefinition,
): Promise<void> {
  const grant = await s.store.grants.byId(grantId);
  const kept: KeptCapability = { state: isGood(answer, definition) ? 'verified' : 'failed', at: answer.at, diagnosis: answer.diagnosis ?? null };
  await s.store.grants.change(grantId, { abilities: { ...grant?.abilities, [capability]: kept } });
}

/** Every capability that a probe verifies, with what is known of it on this grant. */
export function capabilitiesView(definition: ProviderDefinition, grant: GrantRow | null, requested: readonly string[]): Connection['capabilities'] {
  const kept = grant?.abilities ?? {};
  const usual = probeOf(definition, isKey(grant?.kind ?? '') ? null : requested);
  const granted = grant?.scopes ?? [];
  return capabilitiesOf(definition).map(({ name, api, probe }) => {
    const proof = grant?.proofAnswer;
    const own: KeptCapability | undefined =
      probe === usual && proof ? { state: grant?.proof === 'verified' ? 'verified' : 'failed', at: proof.at, diagnosis: proof.diagnosis ?? null } : kept[name];
    return {
      name,
      api: api.title,
      call: `${probe.method} ${probe.path}`,
      effects: probe.effects,
      allowed: grant === null || probe.needs.length === 0 || probe.needs.some((scope) => granted.includes(scope)),
      state: own?.state ?? 'not_verified',
      at: own ? iso(Date.parse(own.at)) : null,
      diagnosis: own?.diagnosis ?? null,
    };
  });
}
