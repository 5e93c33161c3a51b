import type { z } from 'zod';
import type { AddClient, AddSecret, ChangeClient, Client, RedirectUriVerdict } from '../../api/clients.ts';
import { Fault } from '../../core/fault.ts';
import { compareRedirectUris } from '../../core/oauth/redirect-uri.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { composeDefinition } from '../../core/provider/placeholders.ts';
import { bringForward } from '../../core/renewal/transitions.ts';
import { Secret } from '../../core/secret.ts';
import { recordId } from '../ports.ts';
import type { Row } from '../store/tables.ts';
import { findProvider } from './providers.ts';
import { iso, isoOrNull, type Services } from './services.ts';

type Needs = Pick<Services, 'database' | 'tables' | 'history' | 'ports' | 'sealer' | 'settings' | 'renewals' | 'changes'>;
type ClientRow = Row<'clients'>;

const BROUGHT_BACK_MOST = 10_000;
const label = (provider: string, name: string): string => `${provider}/${name}`;

/** The definition with this client's placeholders filled in. */
export const definitionFor = (definition: ProviderDefinition, record: Pick<ClientRow, 'placeholders'>): ProviderDefinition =>
  composeDefinition(definition, record.placeholders as Record<string, string>);

/** @throws {Fault} NOT_FOUND */
export async function findClient(s: Pick<Needs, 'tables'>, provider: string, name: string): Promise<{ record: ClientRow; definition: ProviderDefinition }> {
  const found = await findProvider(s, provider);
  const record = await s.tables.clients.find({ providerId: found.record.id, name });
  if (!record) throw new Fault('NOT_FOUND', { detail: `No client is called ${label(provider, name)}.` });
  return { record, definition: definitionFor(found.definition, record) };
}

/** What is missing before a consent can start; empty: ready. */
export const missingOf = (record: Pick<ClientRow, 'clientId'>, hasSecret: boolean): string[] => [
  ...(record.clientId === null ? ['the client id'] : []),
  ...(hasSecret ? [] : ['the client secret']),
];

async function view(s: Needs, record: ClientRow, definition: ProviderDefinition): Promise<Client> {
  const secrets = await s.tables.clientSecrets.list({ clientId: record.id }, 'startsAt');
  const active = secrets.filter((secret) => secret.state === 'active');
  const newest = active.at(-1);
  const connections = await s.tables.connections.list({ clientId: record.id });
  const missing = missingOf(record, newest !== undefined);
  const state = record.stage === 'retired' ? 'retired' : missing.length > 0 ? 'draft' : record.health === 'stopped' ? 'stopped' : 'working';
  const trouble: Record<string, [string, string]> = {
    draft: [`Missing: ${missing.join(' and ')}.`, 'Register the client at the provider with the redirect URI shown, then enter what it gives you.'],
    stopped: [
      `The provider refuses this client: ${record.evidence ?? 'no evidence kept'}.`,
      'Compare the client id, and enter the secret again as the provider shows it now.',
    ],
    retired: ['It was retired.', 'Use another client.'],
  };
  const [cause, remedy] = trouble[state] ?? [null, null];
  return {
    provider: definition.name,
    provider_title: definition.title,
    name: record.name,
    title: record.title,
    environment: record.environment as Client['environment'],
    placeholders: record.placeholders as Record<string, string>,
    client_id: record.clientId,
    redirect_uri: record.redirectUri,
    registration_page: definition.registration.page ?? null,
    state,
    cause,
    remedy,
    missing,
    secret: newest ? { entered_at: iso(newest.startsAt), ends_at: isoOrNull(newest.endsAt), in_use: active.length } : null,
    connections: connections.length,
    revision: record.revision,
  };
}

export async function listClients(s: Needs): Promise<{ items: Client[] }> {
  const providers = await s.tables.providers.list({}, 'name');
  const items = await Promise.all(
    providers.map(async (provider) => {
      const { definition } = await findProvider(s, provider.name);
      return Promise.all(
        (await s.tables.clients.list({ providerId: provider.id }, 'name')).map((record) => view(s, record, definitionFor(definition, record))),
      );
    }),
  );
  return { items: items.flat() };
}

export async function showClient(s: Needs, provider: string, name: string): Promise<Client> {
  const { record, definition } = await findClient(s, provider, name);
  return view(s, record, definition);
}

/** Starts a draft. Its redirect URI is fixed here and never changes by itself. */
export async function addClient(s: Needs, input: z.output<typeof AddClient>, operator: string): Promise<Client> {
  const { record: provider, definition: general } = await findProvider(s, input.provider);
  const definition = definitionFor(general, input);
  if (await s.tables.clients.find({ providerId: provider.id, name: input.name }))
    throw new Fault('NAME_TAKEN', { detail: `${definition.title} has a client called ${input.name}.` });
  const record: ClientRow = {
    id: recordId(s.ports),
    providerId: provider.id,
    name: input.name,
    title: input.title,
    environment: input.environment,
    clientId: null,
    placeholders: input.placeholders,
    redirectUri: `${s.settings.publicUrl}/oauth/callback/${definition.name}/${input.name}`,
    stage: 'draft',
    approval: 'not_needed',
    reach: 'anyone',
    health: 'working',
    nextTryAt: null,
    heldUntil: null,
    evidence: null,
    revision: 1,
    createdAt: s.ports.clock.now(),
  };
  await s.tables.clients.insert(record);
  s.history.add({
    actor: operator,
    kind: 'client_added',
    subject: `client:${label(input.provider, input.name)}`,
    says: `Started the client ${label(input.provider, input.name)} as a draft.`,
  });
  return view(s, record, definition);
}

/** @throws {Fault} REVISION_OLD */
export async function changeClient(s: Needs, provider: string, name: string, input: z.output<typeof ChangeClient>, operator: string): Promise<Client> {
  const { record } = await findClient(s, provider, name);
  const set: Partial<ClientRow> = { revision: input.revision + 1 };
  if (input.title !== undefined) set.title = input.title;
  if (input.environment !== undefined) set.environment = input.environment;
  if (input.client_id !== undefined) set.clientId = input.client_id;
  const changed = await s.tables.clients.change({ id: record.id, revision: input.revision }, set);
  if (changed === 0) throw new Fault('REVISION_OLD');
  const names = Object.keys(input)
    .filter((key) => key !== 'revision')
    .join(', ');
  s.history.add({ actor: operator, kind: 'client_changed', subject: `client:${label(provider, name)}`, says: `Changed ${names}.` });
  await entered(s, record);
  return showClient(s, provider, name);
}

/** Seals a new secret; the older ones retire. Nothing else of the client needs to be said again. */
export async function addSecret(s: Needs, provider: string, name: string, input: z.output<typeof AddSecret>, operator: string): Promise<Client> {
  const { record } = await findClient(s, provider, name);
  const id = recordId(s.ports);
  const sealed = s.sealer.seal({ table: 'client_secrets', row: id, column: 'sealed' }, new Secret(input.secret));
  await s.database.transaction(async (transaction) => {
    await s.tables.clientSecrets.change({ clientId: record.id, state: 'active' }, { state: 'retired' }, transaction);
    await s.tables.clientSecrets.insert(
      {
        id,
        clientId: record.id,
        kind: 'secret',
        sealed,
        startsAt: s.ports.clock.now(),
        endsAt: input.ends_at === null ? null : Date.parse(input.ends_at),
        state: 'active',
      },
      transaction,
    );
  });
  s.history.add({ actor: operator, kind: 'secret_entered', subject: `client:${label(provider, name)}`, says: 'Entered a new secret.' });
  await entered(s, record);
  return showClient(s, provider, name);
}

/** After an id or secret was entered: a stopped client tries again at once, with all its connections. */
async function entered(s: Needs, record: ClientRow): Promise<void> {
  const waiting = await s.renewals.waitingOf(record.id, BROUGHT_BACK_MOST);
  await s.tables.clients.change({ id: record.id }, { stage: 'active', health: 'working', nextTryAt: null, evidence: null });
  await s.renewals.update(waiting, bringForward());
  await s.changes.announce('client', record.name);
}

/** @throws {Fault} IN_USE while it has connections. */
export async function removeClient(s: Needs, provider: string, name: string, operator: string): Promise<{ done: true }> {
  const { record } = await findClient(s, provider, name);
  if (await s.tables.connections.find({ clientId: record.id }))
    throw new Fault('IN_USE', { detail: `The client ${label(provider, name)} has connections.`, remedy: 'Remove its connections first.' });
  await s.database.transaction(async (transaction) => {
    await s.tables.clientSecrets.remove({ clientId: record.id }, transaction);
    await s.tables.clients.remove({ id: record.id }, transaction);
  });
  s.history.add({ actor: operator, kind: 'client_removed', subject: `client:${label(provider, name)}`, says: 'Removed the client and its secrets.' });
  return { done: true };
}

export async function checkRedirectUri(s: Needs, provider: string, name: string, registered: string): Promise<z.output<typeof RedirectUriVerdict>> {
  const { record } = await findClient(s, provider, name);
  const verdict = compareRedirectUris(record.redirectUri, registered);
  if (verdict.kind === 'same') return { same: true, ours: record.redirectUri, says: 'They are the same, character by character.', at: null };
  return { same: false, ours: record.redirectUri, says: verdict.says, at: verdict.at };
}
