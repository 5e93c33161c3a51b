import { BundleCaller, BundleClient, BundleConnection, BundleJob } from '../../api/bundles.ts';
import type { BundleObject } from '../../core/bundle/bundle.ts';
import { maskedDocument } from '../../core/bundle/secrets.ts';
import { definitionFor } from '../records/index.ts';
import type { BundleParts } from './parts.ts';

/** An object of this installation, as it is and with its secrets left out. */
export type HereObject = BundleObject & { masked: Record<string, unknown> };

const plain = (value: unknown): Record<string, unknown> => JSON.parse(JSON.stringify(value)) as Record<string, unknown>;
const objectOf = (kind: BundleObject['kind'], name: string, document: unknown): HereObject => ({
  ...{ kind, name, document: plain(document) },
  masked: maskedDocument(kind, plain(document)),
});
/** A permission for one person is the installation's: people are in no bundle. */
export const isOfPerson = ({ connection }: { connection?: string | null | undefined }): boolean => connection?.includes('@') ?? false;

/** Everything of this installation that bundles hold, in their order. */
export async function objectsHere(s: BundleParts): Promise<HereObject[]> {
  const providers = await s.store.providers.all();
  const found: HereObject[] = [];
  for (const provider of providers.sort((a, b) => (a.name < b.name ? -1 : 1))) {
    const inUse = await s.store.providers.inUse(provider.name);
    if (inUse) found.push(objectOf('provider', provider.name, inUse.definition));
  }
  for (const provider of providers) {
    const inUse = await s.store.providers.inUse(provider.name);
    for (const row of await s.store.clients.ofProvider(provider.id)) {
      const { title, type, environment, variant, placeholders, rehearsalPort, clientId, authMethod, reach, listedAccounts, registeredScopes } = row;
      const document = BundleClient.parse({
        ...{ provider: provider.name, name: row.name, title, type, environment, variant, placeholders, rehearsal_port: rehearsalPort },
        ...{ client_id: clientId, method: authMethod, reach, listed_accounts: listedAccounts, registered_scopes: registeredScopes },
      });
      if (inUse) definitionFor(inUse.definition, row); // a client whose definition does not fit is named by its own page
      found.push(objectOf('client', `${provider.name}/${row.name}`, document));
    }
  }
  const connections = await s.store.connectionList.read({});
  const savedCalls = await s.store.savedCalls.byConnection();
  for (const one of connections) {
    const calls = savedCalls.get(one.id) ?? [];
    const document = BundleConnection.parse({
      ...{ name: one.name, provider: one.provider, client: one.client, shared: one.shared, grant_type: one.grantType, scopes: one.scopes },
      ...{
        operations: one.operations,
        placeholders: one.placeholders,
        expected_account: one.expectedAccount,
        policy: one.policy,
        labels: [...one.labels].sort(),
      },
      calls: Object.fromEntries(calls.map(({ name, callDocument: { paging, ...saved } }) => [name, paging ? { ...saved, paging } : saved])),
    });
    found.push(objectOf('connection', one.name, document));
  }
  for (const row of await s.store.callers.all()) {
    const permissions = (await s.store.permissions.of(row.id))
      .filter((one) => !isOfPerson(one))
      .map(({ connection, label, rule }) => ({
        ...(connection === null ? { label: label ?? '' } : { connection }),
        ...{ use: rule.use, methods: [...rule.methods], paths: [...rule.paths], share: rule.share, people: rule.people },
      }));
    const { name, title, tokenPath, redirectUris, keepsNoSecret } = row;
    const document = BundleCaller.parse({
      ...{ name, title, token_path: tokenPath, redirect_uris: redirectUris, keeps_no_secret: keepsNoSecret },
      permissions: permissions.sort((a, b) => (permissionKey(a) < permissionKey(b) ? -1 : 1)),
    });
    found.push(objectOf('caller', name, document));
  }
  const names = new Map(connections.map((one) => [one.id, one.name]));
  for (const row of await s.store.jobs.list()) {
    const connection = names.get(row.connectionId);
    if (connection === undefined) continue;
    const document = BundleJob.parse({ name: row.name, connection, settings: row.settings });
    found.push(objectOf('job', row.name, document));
  }
  return found;
}

/** Permissions have no order of their own: in a bundle it is this one. */
export const permissionKey = (one: { connection?: string | undefined; label?: string | undefined }): string => `${one.connection ?? ''} ${one.label ?? ''}`;
