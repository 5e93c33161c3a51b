import type { z } from 'zod';
import { BundleCaller, BundleClient, BundleConnection, BundleJob } from '../../api/bundles.ts';
import type { BundleObject, Compared } from '../../core/bundle/bundle.ts';
import { definitionText } from '../../core/provider/read-definition.ts';
import { addCaller, changeCaller, permitCaller, removeCaller, retireKey, withdrawPermission } from '../callers/index.ts';
import { addClient, changeClient, changeProvider, removeClient } from '../clients/index.ts';
import { addConnection, changeConnection, removeCall, removeConnection, saveCall } from '../connections/index.ts';
import { addJob, changeJob, removeJob } from '../jobs/index.ts';
import type { Command } from '../operation-call.ts';
import { addProvider, removeProvider } from '../providers/index.ts';
import { isOfPerson, permissionKey } from './objects.ts';
import type { BundleParts } from './parts.ts';

type By = Command<'importBundle'>['actor'];

/** Makes or changes one object by the commands that operators use. @throws {Fault} what they throw */
export function apply(s: BundleParts, { kind, name, document }: BundleObject, compared: Compared, actor: By): Promise<void> {
  const isNew = compared.state === 'new';
  switch (kind) {
    case 'provider':
      return provider(s, { name, document, isNew }, actor);
    case 'client':
      return client(s, BundleClient.parse(document), isNew, actor);
    case 'connection':
      return connection(s, BundleConnection.parse(document), isNew, actor);
    case 'caller':
      return caller(s, BundleCaller.parse(document), isNew, actor);
    case 'job':
      return job(s, BundleJob.parse(document), isNew, actor);
    default:
      return kind satisfies never;
  }
}

export async function removeObject(s: BundleParts, { kind, name }: Pick<BundleObject, 'kind' | 'name'>, actor: By): Promise<void> {
  const [first = '', second = ''] = name.split('/');
  if (kind === 'provider') await removeProvider(s, { params: { provider: name }, body: undefined, actor });
  if (kind === 'client') await removeClient(s, { params: { provider: first, client: second }, body: undefined, actor });
  if (kind === 'connection') await removeConnection(s, { params: { connection: name }, body: undefined, actor });
  if (kind === 'caller') await removeCaller(s, { params: { caller: name }, body: undefined, actor });
  if (kind === 'job') await removeJob(s, { params: { job: name }, body: undefined, actor });
}

async function provider(s: BundleParts, { name, document, isNew }: { name: string; document: unknown; isNew: boolean }, actor: By): Promise<void> {
  const text = definitionText(document);
  if (isNew) await addProvider(s, { params: {}, body: { document: text }, actor });
  else {
    const { revision } = (await s.store.providers.byName(name)) ?? { revision: 0 };
    await changeProvider(s, { params: { provider: name }, body: { document: text, revision }, actor });
  }
}

async function client(s: BundleParts, wanted: z.output<typeof BundleClient>, isNew: boolean, actor: By): Promise<void> {
  const { client_id, method, reach, listed_accounts, registered_scopes, ...added } = wanted;
  if (isNew) await addClient(s, { params: {}, body: added, actor });
  const found = await s.store.providers.byName(wanted.provider);
  const row = found && (await s.store.clients.byName(found.id, wanted.name));
  if (!row) return;
  const set = {
    ...{ revision: row.revision, title: added.title, environment: added.environment, placeholders: added.placeholders, take_as_is: true },
    ...(client_id === null || client_id === row.clientId ? {} : { client_id }),
    ...(method === null || method === row.authMethod ? {} : { method }),
    ...(reach === undefined ? {} : { reach }),
    ...{ listed_accounts, registered_scopes },
  };
  await changeClient(s, { params: { provider: wanted.provider, client: wanted.name }, body: set, actor });
}

async function connection(s: BundleParts, wanted: z.output<typeof BundleConnection>, isNew: boolean, actor: By): Promise<void> {
  const { calls, ...added } = wanted;
  const params = { connection: wanted.name };
  if (isNew) await addConnection(s, { params: {}, body: { ...added, allow_unlisted_scopes: true }, actor });
  const row = await s.store.connections.byName(wanted.name);
  if (!row) return;
  if (!isNew) {
    const { scopes, operations, expected_account, policy, labels } = added;
    await changeConnection(s, {
      params,
      body: { revision: row.revision, scopes, operations, expected_account, policy, labels, allow_unlisted_scopes: true },
      actor,
    });
  }
  const kept = await s.store.savedCalls.ofConnection(row.id);
  for (const { name } of kept) if (!Object.hasOwn(calls, name)) await removeCall(s, { params: { ...params, call: name }, body: undefined, actor });
  for (const [name, call] of Object.entries(calls)) await saveCall(s, { params, body: { ...call, name, paging: call.paging ?? null }, actor });
}

async function caller(s: BundleParts, wanted: z.output<typeof BundleCaller>, isNew: boolean, actor: By): Promise<void> {
  const { permissions, ...added } = wanted;
  const params = { caller: wanted.name };
  if (isNew) {
    await addCaller(s, { params: {}, body: { ...added, connections: [] }, actor });
    // Nobody was shown its first key: whoever runs the caller adds one.
    const row = await s.store.callers.byName(wanted.name);
    for (const key of row ? await s.store.callers.keysOf(row.id) : []) await retireKey(s, { params: { ...params, key: key.id }, body: undefined, actor });
  } else {
    const { name: _name, ...set } = added;
    await changeCaller(s, { params, body: set, actor });
  }
  const row = await s.store.callers.byName(wanted.name);
  const present = row ? await s.store.permissions.of(row.id) : [];
  const keys = new Set(permissions.map(permissionKey));
  for (const one of present)
    if (!isOfPerson(one) && !keys.has(permissionKey({ connection: one.connection ?? undefined, label: one.label ?? undefined })))
      await withdrawPermission(s, { params: { ...params, permission: one.id }, body: undefined, actor });
  for (const one of permissions) await permitCaller(s, { params, body: one, actor });
}

async function job(s: BundleParts, wanted: z.output<typeof BundleJob>, isNew: boolean, actor: By): Promise<void> {
  const { name, connection: named, settings } = wanted;
  if (isNew) await addJob(s, { params: {}, body: { ...settings, name, connection: named }, actor });
  else {
    const row = await s.store.jobs.byName(name);
    await changeJob(s, { params: { job: name }, body: { ...settings, revision: row?.revision ?? 0 }, actor });
  }
}
