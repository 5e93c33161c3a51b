import { BundleCaller, BundleClient, BundleConnection, BundleJob } from '../../api/bundles.ts';
import type { JobSettings } from '../../api/jobs.ts';
import { type BundleObject, KEPT } from '../../core/bundle/bundle.ts';
import { withKeysAs } from '../../core/calls/call.ts';
import { definitionFor } from '../records/index.ts';
import type { BundleParts } from './parts.ts';

/** An object of this installation, as it is and with its secrets left out. */
export type HereObject = BundleObject & { masked: Record<string, unknown> };

/** A part of an address so long is nothing that people chose: it may be the key to it. */
const LONG_PART = 20;
const isSecretUrl = (text: string): boolean => {
  if (!URL.canParse(text)) return false;
  const { search, username, pathname } = new URL(text);
  return search !== '' || username !== '' || pathname.split('/').some((part) => part.length >= LONG_PART);
};
const maskedSettings = (settings: JobSettings): JobSettings => ({
  ...settings,
  ...(settings.call ? { call: withKeysAs(settings.call, KEPT) } : {}),
  deliver: settings.deliver.map((target) => (target.kind === 'post' && isSecretUrl(target.url) ? { ...target, url: KEPT } : target)),
});
const plain = (value: unknown): Record<string, unknown> => JSON.parse(JSON.stringify(value)) as Record<string, unknown>;
const alike = (kind: BundleObject['kind'], name: string, document: unknown): HereObject => ({ kind, name, document: plain(document), masked: plain(document) });

/** Everything of this installation that bundles hold, in their order. */
export async function objectsHere(s: BundleParts): Promise<HereObject[]> {
  const providers = await s.store.providers.all();
  const found: HereObject[] = [];
  for (const provider of providers.sort((a, b) => (a.name < b.name ? -1 : 1))) {
    const inUse = await s.store.providers.inUse(provider.name);
    if (inUse) found.push(alike('provider', provider.name, inUse.definition));
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
      found.push(alike('client', `${provider.name}/${row.name}`, document));
    }
  }
  for (const one of await s.store.connectionList.read({})) {
    const calls = await s.store.savedCalls.ofConnection(one.id);
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
    const shownCalls = Object.entries(document.calls).map(([name, saved]) => [name, { ...saved, call: withKeysAs(saved.call, KEPT) }]);
    found.push({ kind: 'connection', name: one.name, document: plain(document), masked: plain({ ...document, calls: Object.fromEntries(shownCalls) }) });
  }
  for (const row of await s.store.callers.all()) {
    const permissions = (await s.store.permissions.of(row.id)).map(({ connection, label, rule }) => ({
      ...(connection === null ? { label: label ?? '' } : { connection }),
      ...{ use: rule.use, methods: [...rule.methods], paths: [...rule.paths], share: rule.share },
    }));
    const { name, title, tokenPath, redirectUris, keepsNoSecret } = row;
    const document = BundleCaller.parse({
      ...{ name, title, token_path: tokenPath, redirect_uris: redirectUris, keeps_no_secret: keepsNoSecret },
      permissions: permissions.sort((a, b) => (permissionKey(a) < permissionKey(b) ? -1 : 1)),
    });
    found.push(alike('caller', name, document));
  }
  for (const row of await s.store.jobs.list()) {
    const connection = (await s.store.connections.byId(row.connectionId))?.name;
    if (connection === undefined) continue;
    const document = BundleJob.parse({ name: row.name, connection, settings: row.settings });
    found.push({ kind: 'job', name: row.name, document: plain(document), masked: plain({ ...document, settings: maskedSettings(document.settings) }) });
  }
  return found;
}

/** Permissions have no order of their own: in a bundle it is this one. */
export const permissionKey = (one: { connection?: string | undefined; label?: string | undefined }): string => `${one.connection ?? ''} ${one.label ?? ''}`;
