import type { z } from 'zod';
import type { Client, RedirectUriVerdict } from '../../api/clients.ts';
import { changesOf } from '../../core/activity/changes.ts';
import { Fault } from '../../core/fault.ts';
import { compareRedirectUris, nearest } from '../../core/oauth/redirect-uri.ts';
import { loopbackPort } from '../../core/oauth/ways.ts';
import { clientTypesOf } from '../../core/provider/client-types.ts';
import { type ProviderDefinition, trustedOrigins, withVariant } from '../../core/provider/definition.ts';
import { checkPlaceholders } from '../../core/provider/placeholders.ts';
import { misplaced } from '../../core/provider/shapes.ts';
import { isWebAddress } from '../../core/provider/web-address.ts';
import { bringForward } from '../../core/renewal/transitions.ts';
import { reviewScopes } from '../../core/scopes/compare.ts';
import type { Command, Limits } from '../operation-call.ts';
import type { Operators } from '../operators/index.ts';
import { recordId } from '../ports.ts';
import { findProvider } from '../providers/index.ts';
import { definitionFor, registeringOf } from '../records/index.ts';
import type { ClientRow } from '../store/clients.ts';
import { showAnswers } from './answers.ts';
import type { ClientParts } from './parts.ts';
import { clientView } from './view.ts';

const MAX_BROUGHT_BACK = 10_000;
export const clientLabel = (provider: string, name: string): string => `${provider}/${name}`;

/** @throws {Fault} NOT_FOUND */
export async function findClient(
  s: Pick<ClientParts, 'store'>,
  provider: string,
  name: string,
): Promise<{ record: ClientRow; definition: ProviderDefinition; whole: ProviderDefinition }> {
  const found = await findProvider(s, provider);
  const record = await s.store.clients.byName(found.record.id, name);
  if (!record) throw new Fault('NOT_FOUND', { detail: `Client "${clientLabel(provider, name)}" not found.` });
  return { record, definition: definitionFor(found.definition, record), whole: found.definition };
}

export async function listClients(s: ClientParts, limits: Limits): Promise<{ items: Client[] }> {
  const providers = await s.store.providers.all();
  const answers = await showAnswers(s);
  const items = await Promise.all(
    providers.map(async (provider) => {
      const { definition } = await findProvider(s, provider.name);
      return Promise.all(
        (await s.store.clients.ofProvider(provider.id)).map((record) => clientView(s, record, definitionFor(definition, record), { answers, limits })),
      );
    }),
  );
  return { items: items.flat() };
}

export async function showClient(s: ClientParts, provider: string, name: string, limits?: Limits): Promise<Client> {
  const { record, definition } = await findClient(s, provider, name);
  return clientView(s, record, definition, { answers: await showAnswers(s), limits });
}

/** Starts a draft. Its redirect URI is fixed here and never changes. */
export async function addClient(s: ClientParts, { body: input, actor }: Command<'addClient'>): Promise<void> {
  const operator = actor.operator.name;
  const { record: provider, definition: whole } = await findProvider(s, input.provider);
  if (input.variant !== null && !whole.variants.some((one) => one.name === input.variant))
    throw new Fault('INPUT_INVALID', { places: [{ path: 'variant', why: `There is: ${whole.variants.map((one) => one.name).join(', ') || 'none'}.` }] });
  const type = input.type ?? whole.registration.client_types[0] ?? 'web';
  const types = clientTypesOf(whole);
  if (!types.includes(type))
    throw new Fault('INPUT_INVALID', {
      places: [{ path: 'type', why: `${whole.title} has clients of these types: ${types.join(', ')}.` }],
    });
  checkPlaceholders(withVariant(whole, input.environment, input.variant), input.placeholders, ['client']);
  if (await s.store.clients.byName(provider.id, input.name)) throw new Fault('NAME_TAKEN', { detail: `${whole.title} has a client called ${input.name}.` });
  const record: ClientRow = {
    id: recordId(s.ports),
    providerId: provider.id,
    name: input.name,
    title: input.title,
    environment: input.environment,
    clientId: null,
    placeholders: input.placeholders,
    redirectUri: `${type === 'desktop' ? `http://127.0.0.1:${loopbackPort(whole.name, input.name)}` : s.settings.publicUrl}/oauth/callback/${whole.name}/${input.name}`,
    stage: 'draft',
    approval: whole.registration.approval === 'needed' ? 'not_requested' : 'not_needed',
    reach: whole.reach[0]?.reach ?? 'anyone',
    health: 'working',
    nextTryAt: null,
    heldUntil: null,
    evidence: null,
    type,
    authMethod: null,
    variant: input.variant,
    registeredScopes: [],
    listedAccounts: [],
    trustedOrigins: null,
    registering: {},
    rehearsalPort: input.rehearsal_port,
    approvalSeenAt: null,
    approvalEvidence: null,
    revision: 1,
    createdAt: s.ports.clock.now(),
  };
  // Whoever starts it has seen the addresses: these are the ones to which its secret may go.
  record.trustedOrigins = trustedOrigins(definitionFor(whole, record));
  await s.store.clients.add(record);
  const label = clientLabel(input.provider, input.name);
  s.history.add({ actor: operator, kind: 'client_added', subject: `client:${label}`, says: `Started the client ${label} as a draft.` });
}

/** Changes what is named, and nothing else: no secret is requested again. @throws {Fault} REVISION_CONFLICT, INPUT_INVALID */
export async function changeClient(s: ClientParts, { params, body: input, actor }: Command<'changeClient'>): Promise<void> {
  const { provider, client: name } = params;
  const operator = actor.operator.name;
  const { record, definition, whole } = await findClient(s, provider, name);
  const set: Partial<ClientRow> = {};
  if (input.title !== undefined) set.title = input.title;
  if (input.environment !== undefined) set.environment = input.environment;
  if (input.placeholders !== undefined) {
    checkPlaceholders(withVariant(whole, input.environment ?? record.environment, record.variant), input.placeholders, ['client']);
    set.placeholders = input.placeholders;
  }
  if (input.client_id !== undefined) {
    if (!input.take_as_is) refuseMisplaced(definition, 'client_id', input.client_id);
    set.clientId = input.client_id;
  }
  if (input.method !== undefined) {
    const known = definition.server.token_endpoint_auth_methods_supported;
    if (!known.includes(input.method))
      throw new Fault('INPUT_INVALID', { places: [{ path: 'method', why: `${definition.title} takes: ${known.join(', ')}.` }] });
    set.authMethod = input.method;
  }
  if (input.approval !== undefined) set.approval = input.approval;
  if (input.registering !== undefined) {
    const page = input.registering.own_page;
    if (page && !isWebAddress(page)) throw new Fault('INPUT_INVALID', { places: [{ path: 'registering.own_page', why: 'It is no https address.' }] });
  }
  const comes = input.approval === 'approved' && record.approval !== 'approved';
  if (input.registering !== undefined || comes) {
    const remembered = { ...registeringOf(record), ...input.registering };
    const today = new Date(s.ports.clock.now()).toISOString().slice(0, 10);
    set.registering = comes ? { ...remembered, approved_on: remembered.approved_on ?? today } : remembered;
  }
  if (input.reach !== undefined) set.reach = input.reach;
  if (input.listed_accounts !== undefined) set.listedAccounts = [...new Set(input.listed_accounts)];
  if (input.stage !== undefined) set.stage = input.stage;
  if (input.registered_scopes !== undefined) {
    const near = reviewScopes(
      input.registered_scopes,
      definition.scopes.map((scope) => scope.name),
    ).filter((remark) => remark.kind === 'misspelt');
    if (near.length > 0 && !input.take_as_is)
      throw new Fault('INPUT_INVALID', {
        detail: near[0]?.says ?? '',
        places: near.map((remark) => ({ path: 'registered_scopes', why: remark.says })),
        remedy: 'Fix it; or, if the client has such a scope of its own making, send it with take_as_is.',
      });
    set.registeredScopes = [...new Set(input.registered_scopes)];
  }
  if (!(await s.store.clients.revise({ id: record.id, revision: input.revision }, set))) throw new Fault('REVISION_CONFLICT');
  const names = Object.keys(input).filter((key) => key !== 'revision' && key !== 'take_as_is');
  s.history.add({
    actor: operator,
    kind: 'client_changed',
    subject: `client:${clientLabel(provider, name)}`,
    says: `Changed ${names.join(', ')}.`,
    data: { changes: changesOf(record, set) },
  });
  if (input.approval !== undefined && input.approval !== record.approval)
    s.history.add({
      actor: operator,
      kind: 'approval_changed',
      subject: `client:${clientLabel(provider, name)}`,
      says: `Approval: ${record.approval.replaceAll('_', ' ')} became ${input.approval.replaceAll('_', ' ')}.`,
    });
  if (input.client_id !== undefined || input.method !== undefined) await entered(s, record);
  else await s.changes.announce('client', name);
}

/** @throws {Fault} INPUT_INVALID naming the field whose shape the value has. */
export function refuseMisplaced(definition: ProviderDefinition, field: string, value: string): void {
  const why = misplaced(definition, field, value);
  if (why)
    throw new Fault('INPUT_INVALID', {
      detail: why,
      places: [{ path: field, why, kind: 'unlikely' }],
      remedy: 'Paste the right value; or, if it is right, send it with take_as_is.',
    });
}

/** After an id or secret was entered: a stopped client tries again at once, with all its connections. */
export async function entered(s: Pick<ClientParts, 'store' | 'changes' | 'connectionStates'>, record: ClientRow): Promise<void> {
  const waiting = await s.store.renewals.waitingOf(record.id, MAX_BROUGHT_BACK);
  await s.store.clients.change(record.id, { ...(record.stage === 'draft' ? { stage: 'active' } : {}), health: 'working', nextTryAt: null, evidence: null });
  if (record.health === 'stopped') s.connectionStates.touchClient(record.id);
  await s.store.renewals.update(waiting, bringForward());
  for (const grantId of waiting) s.connectionStates.touch(grantId);
  await s.changes.announce('client', record.name);
}

/** The addresses of today are the provider's: the secret and the tokens may go there again. Asked with the operator's own password. */
export async function confirmOrigins(s: ClientParts, operators: Operators, { params, body, actor }: Command<'confirmOrigins'>): Promise<void> {
  const { provider, client: name } = params;
  const { password } = body;
  const { operator } = actor;
  const { address } = actor;
  await operators.checkPassword(operator.name, password, address);
  const { record, definition } = await findClient(s, provider, name);
  const origins = trustedOrigins(definition);
  await s.store.clients.change(record.id, { trustedOrigins: origins, revision: record.revision + 1 });
  s.history.add({
    actor: operator.name,
    kind: 'origins_confirmed',
    subject: `client:${clientLabel(provider, name)}`,
    says: `Confirmed where its secret and tokens go: ${origins.join(', ')}.`.slice(0, 600),
  });
  await entered(s, record);
}

/** @throws {Fault} IN_USE while it has connections. */
export async function removeClient(s: ClientParts, { params, actor }: Command<'removeClient'>): Promise<{ done: true }> {
  const { provider, client: name } = params;
  const operator = actor.operator.name;
  const { record } = await findClient(s, provider, name);
  const label = clientLabel(provider, name);
  const dependent = await s.store.connections.dependsOnClient(record.id);
  if (dependent && !dependent.waits) throw new Fault('IN_USE', { detail: `The client ${label} has connections.`, remedy: 'Remove its connections first.' });
  if (dependent)
    throw new Fault('IN_USE', {
      detail: `Tokens that came through ${label} wait at the connection ${dependent.name}.`,
      remedy: 'Use them or discard them first.',
    });
  await s.store.clients.remove(record.id);
  s.history.add({ actor: operator, kind: 'client_removed', subject: `client:${label}`, says: 'Removed the client and its secrets.' });
  return { done: true };
}

/** Compares what the provider shows with ours, character by character, and keeps it: the ready line speaks of it from then on. */
export async function checkRedirectUri(s: ClientParts, { params, body, actor }: Command<'checkRedirectUri'>): Promise<z.output<typeof RedirectUriVerdict>> {
  const { provider, client: name } = params;
  const { registered: pasted } = body;
  const operator = actor.operator.name;
  const { record } = await findClient(s, provider, name);
  const there = pasted.split(/\r?\n/).filter((line) => line.trim() !== '');
  const ours = record.redirectUri;
  const shown = there.includes(ours) ? ours : nearest(ours, there);
  await s.store.clients.change(record.id, {
    registering: { ...registeringOf(record), redirect_uris_there: there.slice(0, 50) },
    revision: record.revision + 1,
  });
  const verdict = compareRedirectUris(ours, shown);
  const same = verdict.kind === 'same';
  s.history.add({
    actor: operator,
    kind: 'redirect_uri_compared',
    subject: `client:${clientLabel(provider, name)}`,
    says: same ? 'The redirect URI matches at the provider.' : `The redirect URI differs at the provider. ${verdict.says}`,
  });
  return { same, ours, shown, says: same ? 'They match, character by character.' : verdict.says, at: same ? null : verdict.at };
}
