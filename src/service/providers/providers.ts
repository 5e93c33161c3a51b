import type { z } from 'zod';
import type {
  CheckedProvider,
  CheckProvider,
  ComposedProvider,
  ComposeProvider,
  Provider,
  ProviderSummary,
  ProviderVersion as Version,
} from '../../api/providers.ts';
import { Fault } from '../../core/fault.ts';
import { type ProviderDefinition, withVariant } from '../../core/provider/definition.ts';
import { emptyDraft, readyLine } from '../../core/provider/draft.ts';
import { checkPlaceholders, fillKnown, placeholdersFrom } from '../../core/provider/placeholders.ts';
import { definitionText } from '../../core/provider/read-definition.ts';
import { tidyAddress } from '../../core/provider/tidy.ts';
import { iso } from '../iso.ts';
import type { Command, Limits } from '../operation-call.ts';
import { recordId } from '../ports.ts';
import type { ProviderRow, ProviderWithDefinition } from '../store/providers.ts';
import { shownAddresses } from './addresses.ts';
import { digestOf } from './digest.ts';
import { askEndpoints } from './endpoints.ts';
import type { ProviderParts } from './parts.ts';

/** @throws {Fault} NOT_FOUND */
export async function findProvider(s: Pick<ProviderParts, 'store'>, name: string): Promise<ProviderWithDefinition> {
  const found = await s.store.providers.inUse(name);
  if (!found) throw new Fault('NOT_FOUND', { detail: `Provider "${name}" not found.` });
  return found;
}

/** How many clients and connections each provider has, by its name. */
async function counts(s: Pick<ProviderParts, 'store'>, limits: Limits): Promise<Map<string, { clients: number; connections: number }>> {
  const [clients, states] = await Promise.all([s.store.providers.countClients(), s.store.connectionList.countStates(limits)]);
  const connections = (name: string) => states.filter((one) => one.provider === name).reduce((sum, one) => sum + one.count, 0);
  return new Map([...clients].map(([name, n]) => [name, { clients: n, connections: connections(name) }]));
}

export async function listProviders(s: ProviderParts, limits: Limits): Promise<{ items: ProviderSummary[] }> {
  const [records, numbers] = await Promise.all([s.store.providers.all(), counts(s, limits)]);
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

export async function showProvider(s: ProviderParts, name: string, limits?: Limits): Promise<Provider> {
  const found = await findProvider(s, name);
  return {
    ...summary(found.definition, found.record, (await counts(s, limits)).get(name)),
    definition: found.definition,
    digest: found.digest,
    revision: found.record.revision,
    ready: readyLine({ ...emptyDraft(name, found.definition.title), document: found.definition }).missing,
  };
}

export async function checkProvider(s: ProviderParts, input: z.output<typeof CheckProvider>): Promise<z.output<typeof CheckedProvider>> {
  const definition = await s.documents.read('definition', input.document);
  const exists = (await s.store.providers.byName(definition.name)) !== null;
  return { definition, exists, endpoints: input.ask_endpoints ? await askEndpoints(s.ports, definition) : [] };
}

/** Keeps the definition as its first version; the name of the provider. @throws {Fault} NAME_TAKEN, DEFINITION_INVALID */
export async function addProvider(s: ProviderParts, { body, actor }: Command<'addProvider'>): Promise<string> {
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
  return definition.name;
}

/** Every version, newest first; the current one is marked. */
export async function listVersions(s: ProviderParts, name: string): Promise<{ items: z.output<typeof Version>[] }> {
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
export async function composeProvider(s: ProviderParts, name: string, input: z.output<typeof ComposeProvider>): Promise<z.output<typeof ComposedProvider>> {
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
export async function removeProvider(s: ProviderParts, { params, actor }: Command<'removeProvider'>): Promise<{ done: true }> {
  const { provider: name } = params;
  const operator = actor.operator.name;
  const { record } = await findProvider(s, name);
  if (await s.store.clients.hasAny(record.id)) throw new Fault('IN_USE', { detail: `The provider ${name} has clients.`, remedy: 'Remove its clients first.' });
  await s.store.providers.remove(record.id);
  s.history.add({ actor: operator, kind: 'provider_removed', subject: `provider:${name}`, says: `Removed the provider ${name}.` });
  return { done: true };
}
