import { createHash } from 'node:crypto';
import type { Provider, ProviderSummary } from '../../api/providers.ts';
import { Fault } from '../../core/fault.ts';
import { ProviderDefinition } from '../../core/provider/definition.ts';
import { readDefinition } from '../../core/provider/read-definition.ts';
import { recordId } from '../ports.ts';
import type { Row } from '../store/tables.ts';
import { iso, type Services } from './services.ts';

type Needs = Pick<Services, 'database' | 'tables' | 'history' | 'ports'>;

export interface FoundProvider {
  record: Row<'providers'>;
  definition: ProviderDefinition;
  digest: string;
}

/** @throws {Fault} NOT_FOUND */
export async function findProvider(s: Pick<Needs, 'tables'>, name: string): Promise<FoundProvider> {
  const record = await s.tables.providers.find({ name });
  if (!record) throw new Fault('NOT_FOUND', { detail: `No provider is called ${name}.` });
  const version = await s.tables.providerVersions.find({ id: record.versionId });
  if (!version) throw new Fault('INTERNAL', { detail: `The definition of ${name} is missing.` });
  return { record, definition: ProviderDefinition.parse(version.document), digest: version.digest };
}

async function counts(s: Needs): Promise<Map<string, { clients: number; connections: number }>> {
  const rows = await s.database.select<{ name: string; clients: number | bigint; connections: number | bigint }>(
    'SELECT p.name, COUNT(DISTINCT c.id) AS clients, COUNT(k.id) AS connections FROM providers p LEFT JOIN clients c ON c.provider_id = p.id LEFT JOIN connections k ON k.client_id = c.id GROUP BY p.name',
  );
  return new Map(rows.map((row) => [row.name, { clients: Number(row.clients), connections: Number(row.connections) }]));
}

export async function listProviders(s: Needs): Promise<{ items: ProviderSummary[] }> {
  const [records, numbers] = await Promise.all([s.tables.providers.list({}, 'name'), counts(s)]);
  const items = await Promise.all(records.map(async (record) => summary((await findProvider(s, record.name)).definition, record, numbers.get(record.name))));
  return { items };
}

const summary = (definition: ProviderDefinition, record: Row<'providers'>, n = { clients: 0, connections: 0 }): ProviderSummary => ({
  name: definition.name,
  title: definition.title,
  about: definition.about,
  ...n,
  added_at: iso(record.createdAt),
});

export async function showProvider(s: Needs, name: string): Promise<Provider> {
  const found = await findProvider(s, name);
  return { ...summary(found.definition, found.record, (await counts(s)).get(name)), definition: found.definition, digest: found.digest };
}

export async function checkProvider(s: Needs, document: string): Promise<{ definition: ProviderDefinition; exists: boolean }> {
  const definition = readDefinition(document);
  return { definition, exists: (await s.tables.providers.find({ name: definition.name })) !== null };
}

/** Keeps the definition as its first version. @throws {Fault} NAME_TAKEN, DEFINITION_INVALID */
export async function addProvider(s: Needs, document: string, operator: string): Promise<Provider> {
  const definition = readDefinition(document);
  const text = JSON.stringify(definition);
  const [providerId, versionId, now] = [recordId(s.ports), recordId(s.ports), s.ports.clock.now()];
  if (await s.tables.providers.find({ name: definition.name })) throw new Fault('NAME_TAKEN', { detail: `A provider called ${definition.name} exists.` });
  await s.database.transaction(async (transaction) => {
    await s.tables.providers.insert({ id: providerId, name: definition.name, title: definition.title, versionId, revision: 1, createdAt: now }, transaction);
    await s.tables.providerVersions.insert(
      { id: versionId, providerId, document: definition, digest: createHash('sha256').update(text).digest('hex'), createdAt: now, createdBy: operator },
      transaction,
    );
  });
  s.history.add({ actor: operator, kind: 'provider_added', subject: `provider:${definition.name}`, says: `Added the provider ${definition.title}.` });
  return showProvider(s, definition.name);
}

/** @throws {Fault} IN_USE while it has clients. */
export async function removeProvider(s: Needs, name: string, operator: string): Promise<{ done: true }> {
  const { record } = await findProvider(s, name);
  if (await s.tables.clients.find({ providerId: record.id }))
    throw new Fault('IN_USE', { detail: `The provider ${name} has clients.`, remedy: 'Remove its clients first.' });
  await s.database.transaction(async (transaction) => {
    await s.tables.providerVersions.remove({ providerId: record.id }, transaction);
    await s.tables.providers.remove({ id: record.id }, transaction);
  });
  s.history.add({ actor: operator, kind: 'provider_removed', subject: `provider:${name}`, says: `Removed the provider ${name}.` });
  return { done: true };
}
