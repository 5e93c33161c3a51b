import { createHash } from 'node:crypto';
import type { z } from 'zod';
import type {
  ChangeProvider,
  CheckedProvider,
  CheckProvider,
  ComposedProvider,
  ComposeProvider,
  Provider,
  ProviderPreview,
  ProviderSummary,
  ProviderVersion as Version,
} from '../../api/providers.ts';
import { Fault } from '../../core/fault.ts';
import { compareDefinitions } from '../../core/provider/compare-definitions.ts';
import { type ProviderDefinition, storedDefinition, trustedOrigins, withVariant } from '../../core/provider/definition.ts';
import { emptyDraft, readyLine } from '../../core/provider/draft.ts';
import { checkPlaceholders, fillKnown, placeholdersFrom } from '../../core/provider/placeholders.ts';
import { definitionText } from '../../core/provider/read-definition.ts';
import { tidyAddress } from '../../core/provider/tidy.ts';
import { recordId } from '../ports.ts';
import type { Row } from '../store/tables.ts';
import { definitionFor } from './client-record.ts';
import { shownAddresses } from './client-view.ts';
import { effectOn } from './definition-effects.ts';
import { askEndpoints } from './endpoints.ts';
import { iso, type Services } from './services.ts';

type Needs = Pick<Services, 'database' | 'tables' | 'history' | 'ports' | 'changes' | 'documents'>;

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
  return { record, definition: storedDefinition(version.document), digest: version.digest };
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
  return {
    ...summary(found.definition, found.record, (await counts(s)).get(name)),
    definition: found.definition,
    digest: found.digest,
    revision: found.record.revision,
    ready: readyLine({ ...emptyDraft(name, found.definition.title), document: found.definition }).missing,
  };
}

export async function checkProvider(s: Needs, input: z.output<typeof CheckProvider>): Promise<z.output<typeof CheckedProvider>> {
  const definition = await s.documents.read('definition', input.document);
  const exists = (await s.tables.providers.find({ name: definition.name })) !== null;
  return { definition, exists, endpoints: input.ask_endpoints ? await askEndpoints(s.ports, definition) : [] };
}

const digestOf = (definition: ProviderDefinition): string => createHash('sha256').update(JSON.stringify(definition)).digest('hex');

/** Keeps the definition as its first version. @throws {Fault} NAME_TAKEN, DEFINITION_INVALID */
export async function addProvider(s: Needs, document: string, operator: string): Promise<Provider> {
  const definition = await s.documents.read('definition', document);
  const [providerId, versionId, now] = [recordId(s.ports), recordId(s.ports), s.ports.clock.now()];
  if (await s.tables.providers.find({ name: definition.name })) throw new Fault('NAME_TAKEN', { detail: `A provider called ${definition.name} exists.` });
  await s.database.transaction(async (transaction) => {
    await s.tables.providers.insert({ id: providerId, name: definition.name, title: definition.title, versionId, revision: 1, createdAt: now }, transaction);
    await s.tables.providerVersions.insert(
      { id: versionId, providerId, document: definition, digest: digestOf(definition), createdAt: now, createdBy: operator },
      transaction,
    );
  });
  s.history.add({ actor: operator, kind: 'provider_added', subject: `provider:${definition.name}`, says: `Added the provider ${definition.title}.` });
  return showProvider(s, definition.name);
}

/**
 * What a changed definition would do: the differences, and for each client and its connections what comes of them. Nothing is saved.
 * @throws {Fault} DEFINITION_INVALID, NOT_FOUND
 */
export async function previewProvider(s: Needs, name: string, document: string): Promise<ProviderPreview> {
  const after = await s.documents.read('definition', document);
  const { record, definition: before } = await findProvider(s, name);
  const refused: string[] = after.name === name ? [] : [`The file names the provider ${after.name}; names never change. It can be added as a new one.`];
  const changes = compareDefinitions(before, after);
  const clients = await s.tables.clients.list({ providerId: record.id }, 'name');
  const effects: ProviderPreview['effects'] = [];
  for (const client of clients) {
    const connections = await s.tables.connections.list({ clientId: client.id });
    const effect = effectOn(before, after, client, connections);
    refused.push(...effect.refused);
    if (effect.says.length > 0) effects.push({ client: `${name}/${client.name}`, connections: connections.length, says: effect.says });
  }
  return { changes, effects, refused, revision: record.revision };
}

/** Saves a changed definition as a new version; the old one is kept. @throws {Fault} REVISION_OLD, DEFINITION_IN_USE */
export async function changeProvider(s: Needs, name: string, input: z.output<typeof ChangeProvider>, operator: string): Promise<Provider> {
  const preview = await previewProvider(s, name, input.document);
  if (preview.refused.length > 0)
    throw new Fault('DEFINITION_IN_USE', { detail: preview.refused[0] ?? '', places: preview.refused.map((why) => ({ path: 'document', why })) });
  const { record, definition: before } = await findProvider(s, name);
  if (preview.changes.length === 0) return showProvider(s, name);
  const definition = await s.documents.read('definition', input.document);
  const [versionId, now] = [recordId(s.ports), s.ports.clock.now()];
  await s.database.transaction(async (transaction) => {
    await s.tables.providerVersions.insert(
      { id: versionId, providerId: record.id, document: definition, digest: digestOf(definition), createdAt: now, createdBy: operator },
      transaction,
    );
    // A client from before origins were kept trusts what it has used so far, and nothing new.
    for (const client of await s.tables.clients.list({ providerId: record.id }))
      if (client.trustedOrigins === null)
        await s.tables.clients.change({ id: client.id }, { trustedOrigins: trustedOrigins(definitionFor(before, client)) }, transaction);
    const changed = await s.tables.providers.change(
      { id: record.id, revision: input.revision },
      { versionId, title: definition.title, revision: input.revision + 1 },
      transaction,
    );
    if (changed === 0) throw new Fault('REVISION_OLD');
  });
  await s.changes.announce('provider', name);
  s.history.add({
    actor: operator,
    kind: 'provider_changed',
    subject: `provider:${name}`,
    says: `Changed the definition in ${preview.changes.length} places: ${preview.changes.map((one) => one.path).join(', ')}.`.slice(0, 600),
  });
  return showProvider(s, name);
}

/** Every version, newest first; the current one is marked. */
export async function listVersions(s: Needs, name: string): Promise<{ items: z.output<typeof Version>[] }> {
  const { record } = await findProvider(s, name);
  const versions = await s.tables.providerVersions.list({ providerId: record.id }, 'createdAt');
  return {
    items: versions.reverse().map((version) => ({
      digest: version.digest,
      saved_at: iso(version.createdAt),
      saved_by: version.createdBy,
      current: version.id === record.versionId,
      document: definitionText(version.document),
    })),
  };
}

/** Fills values into the addresses, and reads values from the address of a page; what is wrong is said, not thrown. */
export async function composeProvider(s: Needs, name: string, input: z.output<typeof ComposeProvider>): Promise<z.output<typeof ComposedProvider>> {
  const { definition: whole } = await findProvider(s, name);
  const definition = withVariant(whole, input.environment, input.variant);
  const read = input.page_address ? placeholdersFrom(definition, tidyAddress(input.page_address).value) : {};
  const placeholders = { ...input.placeholders, ...read };
  const given = Object.fromEntries(Object.entries(placeholders).filter(([, value]) => value !== ''));
  const wrong = definition.placeholders.flatMap((one) => {
    try {
      checkPlaceholders({ ...definition, placeholders: [one] }, given[one.name] === undefined ? {} : { [one.name]: given[one.name] ?? '' }, [one.level]);
      return [];
    } catch (error) {
      return error instanceof Fault ? error.places : [];
    }
  });
  return { placeholders: given, read: Object.keys(read), addresses: shownAddresses(fillKnown(definition, given)), wrong };
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
