import type { ProviderPreview } from '../../api/providers.ts';
import { Fault } from '../../core/fault.ts';
import { compareDefinitions } from '../../core/provider/compare-definitions.ts';
import { trustedOrigins } from '../../core/provider/definition.ts';
import type { Command } from '../operation-call.ts';
import { recordId } from '../ports.ts';
import { digestOf, findProvider } from '../providers/index.ts';
import { definitionFor } from '../records/index.ts';
import { effectOn } from './definition-effects.ts';
import type { ClientParts } from './parts.ts';

type Needs = Pick<ClientParts, 'store' | 'history' | 'ports' | 'changes' | 'documents' | 'connectionStates'>;

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

/** Saves a changed definition as a new version; the old one is kept. @throws {Fault} REVISION_CONFLICT, DEFINITION_IN_USE */
export async function changeProvider(s: Needs, { params, body: input, actor }: Command<'changeProvider'>): Promise<void> {
  const { provider: name } = params;
  const operator = actor.operator.name;
  const preview = await previewProvider(s, name, input.document);
  if (preview.refused.length > 0)
    throw new Fault('DEFINITION_IN_USE', { detail: preview.refused[0] ?? '', places: preview.refused.map((why) => ({ path: 'document', why })) });
  const { record, definition: before } = await findProvider(s, name);
  if (preview.changes.length === 0) return;
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
  if (!revised) throw new Fault('REVISION_CONFLICT');
  for (const client of clients) s.connectionStates.touchClient(client.id);
  await s.changes.announce('provider', name);
  s.history.add({
    actor: operator,
    kind: 'provider_changed',
    subject: `provider:${name}`,
    says: `Changed the definition in ${preview.changes.length} places: ${preview.changes.map((one) => one.path).join(', ')}.`.slice(0, 600),
  });
}
