import { createHash } from 'node:crypto';
import type { z } from 'zod';
import type {
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
import { type ProviderDefinition, trustedOrigins, withVariant } from '../../core/provider/definition.ts';
import { emptyDraft, readyLine } from '../../core/provider/draft.ts';
import { checkPlaceholders, fillKnown, placeholdersFrom } from '../../core/provider/placeholders.ts';
import { definitionText } from '../../core/provider/read-definition.ts';
import { tidyAddress } from '../../core/provider/tidy.ts';
import type { Command } from '../asked.ts';
import { recordId } from '../ports.ts';
import type { ProviderRow, ProviderWithDefinition } from '../store/providers.ts';
import { definitionFor } from './client-record.ts';
import { shownAddresses } from './client-view.ts';
import { effectOn } from './definition-effects.ts';
import { askEndpoints } from './endpoints.ts';
import { iso, type Services } from './services.ts';

type Needs = Pick<Services, 'store' | 'history' | 'ports' | 'changes' | 'documents' | 'connectionStates'>;

/** @throws {Fault} NOT_FOUND */
export async function findProvider(s: Pick<Needs, 'store'>, name: string): Promise<ProviderWithDefinition> {
  const found = await s.store.providers.inUse(name);
  if (!found) throw new Fault('NOT_FOUND', { detail: `No provider is called ${name}.` });
  return found;
}

export async function listProviders(s: Needs): Promise<{ items: ProviderSummary[] }> {
  const [records, numbers] = await Promise.all([s.store.providers.all(), s.store.providers.counts()]);
  const items = await Promise.all(records.map(async (record) => summary((await findProvider(s, record.name)).definition, record, numbers.get(record.name))));
  return { items };
}

const summary = (definition: ProviderDefinition, record: ProviderRow, n = { clients: 0, connections: 0 }): ProviderSummary => ({
  name: definition.name,
  title: definition.title,
  about: definition.about,
  ...n,
  added_at: iso(record.createdAt),
});

export async function showProvider(s: Needs, name: string): Promise<Provider> {
  const found = await findProvider(s, name);
  return {
    ...summary(found.definition, found.record, (await s.store.providers.counts()).get(name)),
    definition: found.definition,
    digest: found.digest,
    revision: found.record.revision,
    ready: readyLine({ ...emptyDraft(name, found.definition.title), document: found.definition }).missing,
  };
}

export async function checkProvider(s: Needs, input: z.output<typeof CheckProvider>): Promise<z.output<typeof CheckedProvider>> {
  const definition = await s.documents.read('definition', input.document);
  const exists = (await s.store.providers.byName(definition.name)) !== null;
  return { definition, exists, endpoints: input.ask_endpoints ? await askEndpoints(s.ports, definition) : [] };
}

const digestOf = (definition: ProviderDefinition): string => createHash('sha256').update(JSON.stringify(definition)).digest('hex');

/** Keeps the definition as its first version. @throws {Fault} NAME_TAKEN, DEFINITION_INVALID */
export async function addProvider(s: Needs, { body, actor }: Command<'addProvider'>): Promise<Provider> {
  const { document } = body;
  const operator = actor.operator.name;
  const definition = await s.documents.read('definition', document);
  const [providerId, versionId, now] = [recordId(s.ports), recordId(s.ports), s.ports.clock.now()];
  if (await s.store.providers.byName(definition.name)) throw new Fault('NAME_TAKEN', { detail: `A provider called ${definition.name} exists.` });
  await s.store.providers.add(
    { id: providerId, name: definition.name, title: definition.title, versionId, revision: 1, createdAt: now },
    { id: versionId, providerId, document: definition, digest: digestOf(definition), createdAt: now, createdBy: operator },
  );
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
  const clients = await s.store.clients.ofProvider(record.id);
  const effects: ProviderPreview['effects'] = [];
  for (const client of clients) {
    const connections = await s.store.connections.ofClient(client.id);
    const effect = effectOn(before, after, client, connections);
    refused.push(...effect.refused);
    if (effect.says.length > 0) effects.push({ client: `${name}/${client.name}`, connections: connections.length, says: effect.says });
  }
  return { changes, effects, refused, revision: record.revision };
}

/** Saves a changed definition as a new version; the old one is kept. @throws {Fault} REVISION_OLD, DEFINITION_IN_USE */
export async function changeProvider(s: Needs, { params, body: input, actor }: Command<'changeProvider'>): Promise<Provider> {
  const { provider: name } = params;
  const operator = actor.operator.name;
  const preview = await previewProvider(s, name, input.document);
  if (preview.refused.length > 0)
    throw new Fault('DEFINITION_IN_USE', { detail: preview.refused[0] ?? '', places: preview.refused.map((why) => ({ path: 'document', why })) });
  const { record, definition: before } = await findProvider(s, name);
  if (preview.changes.length === 0) return showProvider(s, name);
  const definition = await s.documents.read('definition', input.document);
  const [versionId, now] = [recordId(s.ports), s.ports.clock.now()];
  const clients = await s.store.clients.ofProvider(record.id);
  // A client from before origins were kept trusts what it has used so far, and nothing new.
  const untrusting = clients.filter((client) => client.trustedOrigins === null);
  const revised = await s.store.providers.revise(
    { id: record.id, title: definition.title, revision: input.revision },
    { id: versionId, providerId: record.id, document: definition, digest: digestOf(definition), createdAt: now, createdBy: operator },
    new Map(untrusting.map((client) => [client.id, trustedOrigins(definitionFor(before, client))])),
  );
  if (!revised) throw new Fault('REVISION_OLD');
  for (const client of clients) s.connectionStates.touchClient(client.id);
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
  const versions = await s.store.providers.versions(record.id);
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
export async function removeProvider(s: Needs, { params, actor }: Command<'removeProvider'>): Promise<{ done: true }> {
  const { provider: name } = params;
  const operator = actor.operator.name;
  const { record } = await findProvider(s, name);
  if (await s.store.clients.hasAny(record.id)) throw new Fault('IN_USE', { detail: `The provider ${name} has clients.`, remedy: 'Remove its clients first.' });
  await s.store.providers.remove(record.id);
  s.history.add({ actor: operator, kind: 'provider_removed', subject: `provider:${name}`, says: `Removed the provider ${name}.` });
  return { done: true };
}
