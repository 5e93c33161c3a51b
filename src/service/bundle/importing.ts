import type { z } from 'zod';
import type { CompareBundle, ComparedBundle } from '../../api/bundles.ts';
import { BUNDLE_STATES, type BundleObject, type Compared, compareBundle, digestOf, filled } from '../../core/bundle/bundle.ts';
import { asVariables, maskedDocument, SECRET_VARIABLE } from '../../core/bundle/secrets.ts';
import { MASK, withStoredValues } from '../../core/calls/stored-values.ts';
import { counted } from '../../core/counted.ts';
import { Fault } from '../../core/fault.ts';
import type { Command } from '../operation-call.ts';
import { apply, removeObject } from './applying.ts';
import { readFiles } from './files.ts';
import { type HereObject, objectsHere } from './objects.ts';
import type { BundleParts } from './parts.ts';

/** What a name, or the object at the provider, depends on: it cannot be changed, only made again. */
const FIXED: Partial<Record<BundleObject['kind'], readonly string[]>> = {
  client: ['type', 'variant', 'rehearsal_port'],
  connection: ['provider', 'client', 'shared', 'grant_type', 'placeholders'],
  job: ['connection'],
};

interface Looked {
  compared: Compared[];
  objects: (BundleObject & { path: string })[];
  here: HereObject[];
  problems: { path: string; why: string }[];
}

async function look(s: BundleParts, { files, variables }: z.output<typeof CompareBundle>): Promise<Looked> {
  const [read, here, remembered] = [
    await readFiles(s, files, (document) => filled(document, variables, (name) => SECRET_VARIABLE.test(name))),
    await objectsHere(s),
    await s.store.bundles.remembered(),
  ];
  const objects = withKnownSecrets(read.objects, here);
  const shownObjects = objects.map((one) => ({ ...one, masked: maskedDocument(one.kind, one.document) }));
  const compared = compareBundle(here, shownObjects, remembered);
  const problems = [...read.problems, ...references(objects, here), ...fixed(objects, compared), ...unfilled(objects, here)];
  return { compared, objects, here, problems };
}

/** What depends on the definition or the client where a file does not say it. */
const LEFT = ['grant_type', 'type', 'reach'];

/** In place of `(secret)` stands what the installation has. */
function withKnownSecrets(objects: Looked['objects'], here: readonly HereObject[]): Looked['objects'] {
  const known = new Map(here.map((one) => [`${one.kind}:${one.name}`, one]));
  return objects.map((one) => {
    const object = known.get(`${one.kind}:${one.name}`);
    const found = object?.document;
    const document = withStoredValues(one.document, found, object?.masked) as Record<string, unknown>;
    // What a file leaves to the definition is as the installation has it.
    const left = found ? LEFT.filter((key) => document[key] === undefined && found[key] !== undefined) : [];
    return { ...one, document: { ...document, ...Object.fromEntries(left.map((key) => [key, found?.[key]])) } };
  });
}

/** What is named must be in the bundle or here. */
function references(objects: Looked['objects'], here: readonly HereObject[]): Looked['problems'] {
  const known = new Set([...objects, ...here].map((one) => `${one.kind}:${one.name}`));
  return objects.flatMap(({ kind, document, path }) => {
    const { provider, client, connection, permissions } = document as Record<string, string> & { permissions?: { connection?: string }[] };
    const wanted =
      kind === 'client'
        ? [`provider:${provider}`]
        : kind === 'connection'
          ? [`client:${provider}/${client}`]
          : kind === 'job'
            ? [`connection:${connection}`]
            : (permissions ?? []).flatMap((one) => (one.connection === undefined ? [] : [`connection:${one.connection}`]));
    return wanted.filter((key) => !known.has(key)).map((key) => ({ path, why: `The ${key.replace(':', ' ')} is neither in the bundle nor here.` }));
  });
}

function fixed(objects: Looked['objects'], compared: readonly Compared[]): Looked['problems'] {
  return objects.flatMap(({ kind, name, path }) => {
    const found = compared.find((one) => one.kind === kind && one.name === name);
    const at = found?.fields.filter((field) => FIXED[kind]?.includes(field.path.split('.')[0] ?? '')) ?? [];
    return at.map((field) => ({ path, why: `${field.path} cannot be changed: remove the ${kind} and add it again, or take the value that is here.` }));
  });
}

/** A secret that neither side has. */
const unfilled = (objects: Looked['objects'], here: readonly HereObject[]): Looked['problems'] =>
  objects
    .filter((one) => JSON.stringify(one.document).includes(MASK))
    .filter((one) => !here.some((other) => other.kind === one.kind && other.name === one.name))
    .map((one) => ({
      path: one.path,
      why: `A new object needs a value for each secret. Give these with --variables: ${asVariables(one, one.document).names.join(', ')}.`,
    }));

function shown({ compared, problems }: Looked): ComparedBundle {
  const counts = Object.fromEntries(BUNDLE_STATES.map((state) => [state, compared.filter((one) => one.state === state).length])) as ComparedBundle['counts'];
  const reconnect = compared.filter((one) => one.kind === 'connection' && one.state === 'new').map((one) => one.name);
  return { items: compared, counts, problems, reconnect, digest: digestOf(compared) };
}

export const compareFiles = async (s: BundleParts, given: z.output<typeof CompareBundle>): Promise<ComparedBundle> => shown(await look(s, given));

/**
 * Brings the installation to what the files say: all of it in one transaction, or nothing. The same again changes nothing.
 * @throws {Fault} INPUT_INVALID with each file that is wrong, REVISION_CONFLICT where it was edited here or is not what someone looked at
 */
export async function importBundle(s: BundleParts, { body, actor }: Command<'importBundle'>): Promise<ComparedBundle> {
  const { digest, overwrite, remove, ...given } = body;
  const before = await look(s, given);
  if (before.problems.length > 0)
    throw new Fault('INPUT_INVALID', {
      detail: `The bundle has ${counted(before.problems.length, 'problem')}. Nothing was imported.`,
      places: before.problems.slice(0, 100),
      remedy: 'Fix the files listed, and compare again.',
    });
  if (digest !== undefined && digest !== digestOf(before.compared))
    throw new Fault('REVISION_CONFLICT', { detail: 'Something changed since the comparison.', remedy: 'Compare again, look at it, and import that.' });
  const conflicts = before.compared.filter((one) => one.state === 'conflict');
  if (conflicts.length > 0 && !overwrite)
    throw new Fault('REVISION_CONFLICT', {
      detail: `Edited here since the last import: ${conflicts.map((one) => `${one.kind} ${one.name}`).join(', ')}.`.slice(0, 500),
      remedy: 'Export and take over the edits, or import with --overwrite.',
    });
  // What rooms say and announce waits until everything is committed.
  const said: Parameters<BundleParts['history']['add']>[0][] = [];
  const announced: Parameters<BundleParts['changes']['announce']>[] = [];
  const inside: BundleParts = {
    ...s,
    history: { ...s.history, add: (event) => void said.push(event) },
    changes: {
      ...s.changes,
      announce: async (...change) => {
        announced.push(change);
      },
    },
  };
  const todo = before.compared.filter((one) => one.state === 'new' || one.state === 'changed' || one.state === 'conflict');
  const gone = remove ? before.compared.filter((one) => one.state === 'removed').reverse() : [];
  await s.store.atomically(async () => {
    for (const one of todo) {
      const object = before.objects.find((other) => other.kind === one.kind && other.name === one.name);
      if (object) await apply(inside, object, one, actor).catch((error: unknown) => rethrow(error, object));
    }
    for (const one of gone) await removeObject(inside, one, actor).catch((error: unknown) => rethrow(error, { ...one, path: `${one.kind} ${one.name}` }));
    const now = await objectsHere(s);
    const kept = before.objects.map(({ kind, name }) => ({ kind, name, found: now.find((other) => other.kind === kind && other.name === name) }));
    await s.store.bundles.remember(
      kept.flatMap(({ kind, name, found }) => (found ? [{ kind, name, digest: digestOf(found.masked) }] : [])),
      actor.operator.name,
      s.ports.clock.now(),
    );
    for (const one of gone) await s.store.bundles.forget(one.kind, one.name);
    // A second comparison must be empty: else something was not taken as it was given, and nothing of it stays.
    const left = (await look(s, given)).compared.filter((one) => one.state === 'new' || one.state === 'changed' || one.state === 'conflict');
    const [first] = left;
    if (first)
      throw new Fault('INPUT_INVALID', {
        detail: `The ${first.kind} ${first.name} would not be as the bundle says: ${first.fields.map((field) => field.path).join(', ')}. Nothing was imported.`,
        remedy: 'Compare these fields with what the provider\u2019s definition allows.',
      });
  });
  for (const event of said) s.history.add(event);
  for (const change of announced) await s.changes.announce(...change);
  const says = `Imported a bundle: ${counted(todo.length, 'object')} added or changed, ${gone.length} removed.`;
  s.history.add({ actor: actor.operator.name, kind: 'bundle_imported', subject: 'installation', says });
  await s.connectionStates.settle();
  return shown(before);
}

/** What went wrong, with the file where it stands. */
function rethrow(error: unknown, { path }: { path: string }): never {
  if (!(error instanceof Fault)) throw error;
  const places = error.places.map((place) => ({ ...place, path: `${path}: ${place.path}` }));
  throw new Fault(error.code, { detail: `${path}: ${error.detail ?? error.message} Nothing was imported.`, remedy: error.remedy, places });
}
