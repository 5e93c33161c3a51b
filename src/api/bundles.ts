import { z } from 'zod';
import { BUNDLE_KINDS, BUNDLE_STATES } from '../core/bundle/bundle.ts';
import { AddCaller, Permit } from './callers.ts';
import { AddClient, ChangeClient } from './clients.ts';
import { ConnectionName } from './common.ts';
import { AddConnection } from './connections.ts';
import { JobSettings } from './jobs.ts';
import type { Operation } from './operation.ts';
import { SaveCall } from './trying.ts';

/** How each kind of object stands in a file of a bundle: what commands take to make it, with names and without IDs. */
const client = ChangeClient.shape;
export const BundleClient = AddClient.extend({
  client_id: client.client_id.nullable().default(null),
  method: client.method.nullable().default(null),
  reach: client.reach,
  listed_accounts: client.listed_accounts.default([]),
  registered_scopes: client.registered_scopes.default([]),
});
const BundleCall = SaveCall.omit({ name: true });
const connection = AddConnection.shape;
export const BundleConnection = z.strictObject({
  name: connection.name,
  provider: connection.provider,
  client: connection.client,
  shared: connection.shared,
  grant_type: connection.grant_type,
  scopes: connection.scopes.default([]),
  operations: connection.operations,
  placeholders: connection.placeholders,
  expected_account: connection.expected_account,
  policy: connection.policy,
  labels: connection.labels,
  calls: z.record(z.string(), BundleCall).default({}).describe('Saved calls, by name'),
});
const caller = AddCaller.shape;
export const BundleCaller = z.strictObject({
  name: caller.name,
  title: caller.title,
  token_path: caller.token_path.default(null),
  redirect_uris: caller.redirect_uris.default([]),
  keeps_no_secret: caller.keeps_no_secret.default(false),
  permissions: z.array(Permit).max(500).default([]),
});
export const BundleJob = z.strictObject({ name: z.string(), connection: ConnectionName, settings: JobSettings });

const File = z.strictObject({ path: z.string().max(200), text: z.string().max(500_000) });
const BundleFiles = z.array(File).max(20_000);
const Given = {
  files: BundleFiles,
  variables: z
    .record(z.string().regex(/^[A-Za-z_][A-Za-z0-9_]*$/), z.string().max(5_000))
    .default({})
    .describe('Values for the variables in the files'),
};
const Lock = {
  passphrase: z.string().min(12).max(500).optional(),
  recipient: z.string().max(5_000).optional().describe('A public key in PEM'),
};
const Bundle = z.object({ files: z.array(File) });
export const CompareBundle = z.strictObject(Given);
export const ComparedBundle = z.object({
  items: z.array(
    z.object({
      kind: z.enum(BUNDLE_KINDS),
      name: z.string(),
      state: z.enum(BUNDLE_STATES),
      fields: z.array(z.object({ path: z.string(), here: z.unknown(), bundle: z.unknown() })),
      note: z.string().nullable(),
    }),
  ),
  counts: z.record(z.enum(BUNDLE_STATES), z.number().int()),
  problems: z.array(z.object({ path: z.string().describe('The file'), why: z.string() })).describe('What must be fixed before it can be imported'),
  reconnect: z.array(z.string()).describe('Connections that are new: someone must connect them'),
  digest: z.string().describe('Of what an import would do: an import with it does this and nothing else'),
});
export type ComparedBundle = z.output<typeof ComparedBundle>;
const ImportBundle = z.strictObject({
  ...Given,
  digest: z.string().optional().describe('Of the comparison that someone reviewed: anything else is a conflict'),
  overwrite: z.boolean().default(false).describe('Take the bundle where it was edited here since the last import'),
  remove: z.boolean().default(false).describe('Remove what came from a bundle and is not in this one'),
});
const ExportSecrets = z.strictObject(Lock).refine((one) => (one.passphrase === undefined) !== (one.recipient === undefined), {
  error: 'Give a passphrase or a public key, one of the two.',
  path: ['passphrase'],
});
const ImportSecrets = z.strictObject({
  jwe: z.string().max(20_000_000),
  passphrase: z.string().max(500).optional(),
  private_key: z.string().max(20_000).optional().describe('In PEM (PKCS#8)'),
});
export const SecretsImported = z.object({
  added: z.array(z.string()),
  present: z.array(z.string()).describe('There already'),
  missing: z.array(z.string()).describe('Of what is not here'),
});

export const bundleOperations = {
  exportBundle: {
    method: 'GET',
    path: '/api/v1/bundle',
    access: 'operator',
    says: 'Export providers, clients, connections, callers and jobs as files, without secrets',
    answer: Bundle,
  },
  compareBundle: {
    method: 'POST',
    path: '/api/v1/bundle/compare',
    access: 'operator',
    bodyLimit: '25mb',
    says: 'Compare files with this installation, field by field',
    body: CompareBundle,
    answer: ComparedBundle,
  },
  importBundle: {
    method: 'POST',
    path: '/api/v1/bundle/import',
    access: 'operator',
    bodyLimit: '25mb',
    says: 'Import files: all or nothing, and the same again changes nothing',
    body: ImportBundle,
    answer: ComparedBundle,
  },
  exportBundleSecrets: {
    method: 'POST',
    path: '/api/v1/bundle/secrets',
    access: 'operator',
    says: 'Export the secrets of clients and the keys of callers, as JWE',
    body: ExportSecrets,
    answer: z.object({ jwe: z.string() }),
  },
  importBundleSecrets: {
    method: 'POST',
    path: '/api/v1/bundle/secrets/import',
    access: 'operator',
    bodyLimit: '25mb',
    says: 'Import secrets of clients and keys of callers that exist here',
    body: ImportSecrets,
    answer: SecretsImported,
  },
} as const satisfies Record<string, Operation>;
