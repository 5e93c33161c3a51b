import { createHash } from 'node:crypto';
import { MASK } from '../calls/stored-values.ts';
import { own } from '../json.ts';

/** What a bundle is made of, in the order in which it is imported. */
export const BUNDLE_KINDS = ['provider', 'client', 'connection', 'caller', 'job'] as const;
export type BundleKind = (typeof BUNDLE_KINDS)[number];

/** One object of a bundle: its document is plain JSON, in its normal form. */
export interface BundleObject {
  kind: BundleKind;
  /** Of a client: PROVIDER/NAME. */
  name: string;
  document: Record<string, unknown>;
}

/**
 * `new`: only in the bundle. `changed`: differs. `conflict`: was edited here since the last import, and differs from the bundle.
 * `removed`: came from a bundle, and is not in this one. `only_here`: never came from one.
 */
export const BUNDLE_STATES = ['new', 'changed', 'same', 'conflict', 'removed', 'only_here'] as const;
type BundleState = (typeof BUNDLE_STATES)[number];

interface Difference {
  /** Keys that lead to it, from the document down. */
  steps: readonly string[];
  /** Undefined: it is not there. */
  here: unknown;
  bundle: unknown;
}
interface FieldChange extends Omit<Difference, 'steps'> {
  /** Such as `schedule.cron`. */
  path: string;
}
export interface Compared {
  kind: BundleKind;
  name: string;
  state: BundleState;
  fields: FieldChange[];
  /** What a reader should know. */
  note: string | null;
}

const isPlain = (value: unknown): value is Record<string, unknown> => typeof value === 'object' && value !== null && !Array.isArray(value);

/** Text of a value with its keys in order: the same value, the same text. */
export function canonical(value: unknown): string {
  if (Array.isArray(value)) return `[${value.map(canonical).join(',')}]`;
  if (isPlain(value))
    return `{${Object.keys(value)
      .filter((key) => value[key] !== undefined)
      .sort()
      .map((key) => `${JSON.stringify(key)}:${canonical(value[key])}`)
      .join(',')}}`;
  return JSON.stringify(value) ?? 'null';
}

/** What is remembered of an object at its import: whether it was edited since is seen by this. */
export const digestOf = (document: unknown): string => createHash('sha256').update(canonical(document)).digest('hex');

/** Steps as one text for people. A key that could be mistaken for several stands in quotes: `headers."a.b"`. */
export const fieldPath = (steps: readonly string[]): string => steps.map((step) => (/^[^."]+$/.test(step) ? step : JSON.stringify(step))).join('.');

/** Where two documents differ, field by field. A secret that the bundle leaves out is the same wherever there is one. */
export function differences(here: unknown, bundle: unknown, steps: readonly string[] = []): Difference[] {
  if (bundle === MASK && here !== undefined) return [];
  if (isPlain(here) && isPlain(bundle)) {
    const keys = [...new Set([...Object.keys(here), ...Object.keys(bundle)])].sort();
    return keys.flatMap((key) => differences(own(here, key), own(bundle, key), [...steps, key]));
  }
  if (Array.isArray(here) && Array.isArray(bundle) && here.length === bundle.length && here.some(isPlain))
    return here.flatMap((one, at) => differences(one, bundle[at], [...steps, String(at)]));
  const isSame = (here === undefined) === (bundle === undefined) && canonical(here) === canonical(bundle); // nothing is not null
  return isSame ? [] : [{ steps, here, bundle }];
}

const keyOf = ({ kind, name }: Pick<BundleObject, 'kind' | 'name'>): string => `${kind}:${name}`;

/**
 * Compares an installation with a bundle.
 * Each document comes as it is and `masked`, as it may be shown; what was remembered at the last import is compared with the masked one.
 * @param remembered digests at the last import, by `kind:name`
 */
export function compareBundle(
  here: readonly (BundleObject & { masked: Record<string, unknown> })[],
  bundle: readonly (BundleObject & { masked: Record<string, unknown> })[],
  remembered: ReadonlyMap<string, string>,
): Compared[] {
  const present = new Map(here.map((one) => [keyOf(one), one]));
  const wanted = new Map(bundle.map((one) => [keyOf(one), one]));
  const compared = bundle.map((one): Compared => {
    const found = present.get(keyOf(one));
    if (!found) return { kind: one.kind, name: one.name, state: 'new', fields: [], note: null };
    const fields = differences(found.document, one.document).map((field) => changeOf(field, found.masked, one.masked));
    const last = remembered.get(keyOf(one));
    const isEdited = last !== undefined && last !== digestOf(found.masked);
    const state = fields.length === 0 ? 'same' : isEdited ? 'conflict' : 'changed';
    const note =
      state === 'conflict' ? 'It was edited here since the last import.' : last === undefined && state === 'changed' ? 'It exists here and is adopted.' : null;
    return { kind: one.kind, name: one.name, state, fields, note };
  });
  const missing = here
    .filter((one) => !wanted.has(keyOf(one)))
    .map((one): Compared => ({ kind: one.kind, name: one.name, state: remembered.has(keyOf(one)) ? 'removed' : 'only_here', fields: [], note: null }));
  return renamed([...compared, ...missing], present, wanted).sort(
    (a, b) => BUNDLE_KINDS.indexOf(a.kind) - BUNDLE_KINDS.indexOf(b.kind) || (a.name < b.name ? -1 : 1),
  );
}

/** A difference as it is shown: both sides as they may be shown, since what is compared goes into logs. */
const changeOf = ({ steps }: Difference, here: Record<string, unknown>, bundle: Record<string, unknown>): FieldChange => ({
  path: fieldPath(steps),
  here: valueAt(here, steps),
  bundle: valueAt(bundle, steps),
});

function valueAt(document: unknown, steps: readonly string[]): unknown {
  let value = document;
  for (const step of steps) value = isPlain(value) ? own(value, step) : Array.isArray(value) ? value[Number(step)] : undefined;
  return value;
}

/** Names stand in addresses and at callers, so nothing is renamed: a new object beside a removed one of the same content is said to look like it. */
function renamed(compared: Compared[], present: ReadonlyMap<string, BundleObject>, wanted: ReadonlyMap<string, BundleObject>): Compared[] {
  const gone = compared.filter((one) => one.state === 'removed' || one.state === 'only_here');
  return compared.map((one) => {
    if (one.state !== 'new') return one;
    const document = wanted.get(keyOf(one))?.document;
    const former = gone.find((other) => other.kind === one.kind && canonical(present.get(keyOf(other))?.document) === canonical(document));
    return former ? { ...one, note: `It looks like ${former.name}, renamed. Names cannot change: this is added, and nothing moves to it.` } : one;
  });
}

const VARIABLE = /\$(\$|\{([A-Za-z_][A-Za-z0-9_]*)\})/g;

/** Fills `${NAME}` in all texts of a document; `$$` is a dollar sign. @param isKept variables that may lack a value: what is there stays @returns what is missing as well */
export function filled<T>(
  document: T,
  variables: Readonly<Record<string, string>>,
  isKept: (name: string) => boolean = () => false,
): { document: T; missing: string[] } {
  const missing = new Set<string>();
  const walk = (value: unknown): unknown => {
    if (typeof value === 'string')
      return value.replace(VARIABLE, (whole, _all: string, name: string | undefined) => {
        if (name === undefined) return '$';
        if (Object.hasOwn(variables, name)) return variables[name] ?? '';
        if (isKept(name)) return MASK;
        missing.add(name);
        return whole;
      });
    if (Array.isArray(value)) return value.map(walk);
    if (isPlain(value)) return Object.fromEntries(Object.entries(value).map(([key, one]) => [key, walk(one)]));
    return value;
  };
  return { document: walk(document) as T, missing: [...missing].sort() };
}

/** A text as a bundle holds it, so that it is read back as it is. */
export const escaped = <T>(document: T): T => {
  const walk = (value: unknown): unknown => {
    if (typeof value === 'string') return value.replaceAll('$', '$$$$');
    if (Array.isArray(value)) return value.map(walk);
    if (isPlain(value)) return Object.fromEntries(Object.entries(value).map(([key, one]) => [key, walk(one)]));
    return value;
  };
  return walk(document) as T;
};
