import type { z } from 'zod';
import { BundleCaller, BundleClient, BundleConnection, BundleJob } from '../../api/bundles.ts';
import { JobSettings } from '../../api/jobs.ts';
import { type BundleKind, type BundleObject, canonical, escaped } from '../../core/bundle/bundle.ts';
import { asVariables } from '../../core/bundle/secrets.ts';
import { MASK } from '../../core/calls/stored-values.ts';
import { definitionText } from '../../core/provider/read-definition.ts';
import { isOfPerson, objectsHere, permissionKey } from './objects.ts';
import type { BundleParts } from './parts.ts';

const FOLDERS: Record<BundleKind, string> = { provider: 'providers', client: 'clients', connection: 'connections', caller: 'callers', job: 'jobs' };
const HEAD = 'rusty-kettle.yaml';
const README = `# A bundle of Rusty Kettle: one file for each provider, client, connection, caller and job. No secrets.
# Compare it with an installation: rk bundle compare FOLDER. Import it: rk bundle import FOLDER.
# \${NAME}: filled from the variables. \${SECRET_NAME} without a value, and (secret): stays as it is in the installation. $$: a dollar sign.
format: rusty-kettle-bundle/1
`;

/** What a file says only where it differs: everything else is as a new object has it. */
const DEFAULTS: Record<Exclude<BundleKind, 'provider'>, Record<string, unknown>> = {
  client: defaultsOf(BundleClient, { provider: 'a', name: 'a' }),
  connection: defaultsOf(BundleConnection, { name: 'a', provider: 'a', client: 'a' }),
  caller: defaultsOf(BundleCaller, { name: 'a' }),
  job: {},
};
const JOB_DEFAULTS = defaultsOf(JobSettings, { saved: 'a' });

function defaultsOf(schema: z.ZodType, least: object): Record<string, unknown> {
  const read = schema.safeParse(least);
  return read.success ? Object.fromEntries(Object.entries(read.data as object).filter(([key]) => !Object.hasOwn(least, key))) : {};
}
const lean = (document: Record<string, unknown>, defaults: Record<string, unknown>): Record<string, unknown> =>
  Object.fromEntries(Object.entries(document).filter(([key, value]) => !Object.hasOwn(defaults, key) || canonical(defaults[key]) !== canonical(value)));

/** The document as its file holds it. */
function written({ kind, document }: BundleObject): unknown {
  if (kind === 'provider') return document;
  if (kind === 'job') return { ...document, settings: lean(document.settings as Record<string, unknown>, JOB_DEFAULTS) };
  return lean(document, DEFAULTS[kind]);
}
const pathOf = ({ kind, name }: BundleObject): string => `${FOLDERS[kind]}/${name.replace('/', '.')}.yaml`;

const textOf = (object: BundleObject): string => definitionText(asVariables(object, escaped(written(object))).document);

/** Everything but the secrets, one file for each object, always in the same order and form. */
export async function exportFiles(s: BundleParts, by: string): Promise<{ files: { path: string; text: string }[] }> {
  const objects = await objectsHere(s);
  s.history.add({ actor: by, kind: 'bundle_exported', subject: 'installation', says: `Exported a bundle of ${objects.length} objects, without secrets.` });
  return {
    files: [{ path: HEAD, text: README }, ...objects.map((one) => ({ path: pathOf(one), text: textOf({ ...one, document: one.masked }) }))],
  };
}

/** What was read of a bundle: objects in their normal form, and what must be fixed. */
export interface ReadBundle {
  objects: (BundleObject & { path: string })[];
  problems: { path: string; why: string }[];
}

const SCHEMAS = { client: BundleClient, connection: BundleConnection, caller: BundleCaller, job: BundleJob };

/** Reads files as people wrote them. Nothing is thrown: everything that is wrong is named, with its file. */
export async function readFiles(
  s: BundleParts,
  files: readonly { path: string; text: string }[],
  fill: (document: unknown) => { document: unknown; missing: string[] },
): Promise<ReadBundle> {
  const read: ReadBundle = { objects: [], problems: [] };
  const kinds = new Map(Object.entries(FOLDERS).map(([kind, folder]) => [folder, kind as BundleKind]));
  const seen = new Map<string, string>();
  for (const file of await s.documents.read('bundle', [...files])) {
    const { path } = file;
    const wrong = (why: string) => void read.problems.push({ path, why });
    if ('why' in file) {
      wrong(file.why);
      continue;
    }
    if (path === 'variables.yaml') continue; // values for the others, not an object
    if (path === HEAD) {
      const { format } = (file.document ?? {}) as { format?: unknown };
      if (format !== 'rusty-kettle-bundle/1') wrong('This version reads the format rusty-kettle-bundle/1.');
      continue;
    }
    const kind = kinds.get(path.split('/')[0] ?? '');
    if (kind === undefined || path.split('/').length !== 2) {
      wrong(`Not a member of a bundle: files stand in ${Object.values(FOLDERS).join(', ')}.`);
      continue;
    }
    const { document, missing } = fill(file.document);
    for (const name of missing) wrong(`The variable ${name} has no value. Give it with --variables.`);
    if (missing.length > 0) continue;
    const object = kind === 'provider' ? await providerOf(s, document, wrong) : ordinary(kind, document, wrong);
    if (object === null) continue;
    const key = `${object.kind}:${object.name}`;
    const other = seen.get(key);
    if (other !== undefined) wrong(`${other} has the same name: ${object.name}.`);
    else read.objects.push({ ...object, path });
    seen.set(key, path);
  }
  return read;
}

async function providerOf(s: BundleParts, document: unknown, wrong: (why: string) => void): Promise<BundleObject | null> {
  try {
    const definition = await s.documents.read('definition', JSON.stringify(document));
    return { kind: 'provider', name: definition.name, document: JSON.parse(JSON.stringify(definition)) as Record<string, unknown> };
  } catch (error) {
    const { message, places } = error as { message: string; places?: { path: string; why: string }[] };
    for (const one of places?.length ? places : [{ path: '', why: message }]) wrong(`${one.path ? `${one.path}: ` : ''}${one.why}`);
    return null;
  }
}

function ordinary(kind: Exclude<BundleKind, 'provider'>, document: unknown, wrong: (why: string) => void): BundleObject | null {
  const read = SCHEMAS[kind].safeParse(withoutKept(document));
  if (!read.success) {
    for (const issue of read.error.issues) {
      const at = [...issue.path, ...(issue.code === 'unrecognized_keys' ? issue.keys : [])].join('.');
      wrong(`${at ? `${at}: ` : ''}${issue.message}`);
    }
    return null;
  }
  const data = JSON.parse(JSON.stringify(read.data)) as Record<string, unknown> & {
    name: string;
    provider?: string;
    permissions?: object[];
    labels?: string[];
  };
  if (data.permissions) data.permissions = data.permissions.filter((one) => !isOfPerson(one)).sort((a, b) => (permissionKey(a) < permissionKey(b) ? -1 : 1));
  if (data.labels) data.labels = [...new Set(data.labels)].sort();
  const kept = putBack(data, document) as Record<string, unknown>;
  return { kind, name: kind === 'client' ? `${data.provider}/${data.name}` : data.name, document: kept };
}

/** A secret that is left out has a form of its own only after it is put back: an address stands in its place while the document is checked. */
const STAND_IN = 'https://kept.invalid/';
const IN_QUERY = 'kept.invalid';
const withoutKept = (value: unknown): unknown =>
  mapped(value, (one) => (one === MASK ? STAND_IN : typeof one === 'string' ? one.replaceAll(`=${MASK}`, `=${IN_QUERY}`) : one));
const putBack = (value: unknown, original: unknown): unknown =>
  canonical(original).includes(MASK)
    ? mapped(value, (one) => (one === STAND_IN ? MASK : typeof one === 'string' ? one.replaceAll(`=${IN_QUERY}`, `=${MASK}`) : one))
    : value;
function mapped(value: unknown, change: (text: unknown) => unknown): unknown {
  if (Array.isArray(value)) return value.map((one) => mapped(one, change));
  if (typeof value === 'object' && value !== null) return Object.fromEntries(Object.entries(value).map(([key, one]) => [key, mapped(one, change)]));
  return change(value);
}
