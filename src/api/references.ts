import { z } from 'zod';
import { innerOf, takenBy } from './schema-walk.ts';

/**
 * What a name or ID in a request stands for. Every schema that takes one states it here, so that one function can resolve all of them for
 * whoever asks. `label`: given to a connection or a person. `kept_labels`: all labels of a connection. `permitted_label`: a caller gets all that
 * carry it. `label_filter`: narrows a list that is narrowed to the account already. `client_to_use`: a connection is put on this client.
 * `subject`: of entries of the activity log. `shared`: providers, clients and operators, which every account sees. `installation`: only
 * operations of the whole installation take it. `part`: a part of the object that stands before it in the path.
 */
const REFERENCE_KINDS = [
  ...(['connection', 'caller', 'job', 'run', 'consent', 'invitation', 'notice', 'sign_in_request', 'client_to_use', 'subject'] as const),
  ...(['label', 'kept_labels', 'permitted_label', 'label_filter', 'shared', 'installation', 'part'] as const),
] as const;
export type ReferenceKind = (typeof REFERENCE_KINDS)[number];

const registry = z.registry<{ to: ReferenceKind }>();

/** Marks a schema as one that takes the name or ID of an object. */
export const refersTo = <S extends z.ZodType>(to: ReferenceKind, schema: S): S => {
  registry.add(schema, { to });
  return schema;
};

/** The parameters of paths. Each must be listed: the type of `operation-references.ts` refuses a path with another one. */
export const PATH_REFERENCES = {
  ...{ connection: 'connection', caller: 'caller', job: 'job', run: 'run', consent: 'consent', invitation: 'invitation', notice: 'notice' },
  ...{ request: 'sign_in_request', provider: 'shared', client: 'shared', operator: 'shared' },
  ...{ backup: 'installation', calendar: 'installation', channel: 'installation', rehearsal: 'installation' },
  ...{ call: 'part', campaign: 'part', factor: 'part', identity: 'part', key: 'part', permission: 'part', secret: 'part', session: 'part', sign_in: 'part' },
} as const satisfies Record<string, ReferenceKind>;

export interface Reference {
  to: ReferenceKind;
  /** As it was sent; of `kept_labels` all of them. */
  names: readonly string[];
  /** Where in the request: `body.connections.0`. */
  place: string;
}

/** In place of a value: every branch of the schema is walked. */
const EVERY = Symbol('every');

/** The references in a value that was read by this schema. */
export const referencesIn = (schema: z.ZodType | undefined, value: unknown, place: string): Reference[] =>
  schema === undefined ? [] : walk(schema as z.core.$ZodType, value, place);

/** Every place of a schema that takes a reference, whatever is sent. */
export const referencePlaces = (schema: z.ZodType | undefined, place: string): Reference[] => referencesIn(schema, EVERY, place);

function walk(schema: z.core.$ZodType, value: unknown, place: string): Reference[] {
  if (value === undefined || value === null) return [];
  const marked = registry.get(schema as z.ZodType);
  if (marked) {
    const names = value === EVERY ? [] : Array.isArray(value) ? value.map(String) : [String(value)];
    return [{ to: marked.to, names, place }];
  }
  const { def } = (schema as z.core.$ZodTypes)._zod;
  const member = (key: string): unknown => (value === EVERY ? EVERY : (value as Record<string, unknown>)[key]);
  switch (def.type) {
    case 'object':
      return Object.entries(def.shape).flatMap(([key, one]) => walk(one, member(key), `${place}.${key}`));
    case 'array':
      return (value === EVERY ? [EVERY] : (value as unknown[])).flatMap((one, at) => walk(def.element, one, `${place}.${value === EVERY ? '*' : at}`));
    case 'record':
      return (value === EVERY ? [['*', EVERY] as const] : Object.entries(value as object)).flatMap(([key, one]) => [
        ...walk(def.keyType, value === EVERY ? EVERY : key, `${place}.${key}`),
        ...walk(def.valueType, one, `${place}.${key}`),
      ]);
    case 'union':
      return (value === EVERY ? def.options : [takenBy(def.options, value)]).flatMap((one) => (one ? walk(one, value, place) : []));
    default: {
      const inner = innerOf(schema);
      return inner ? walk(inner, value, place) : [];
    }
  }
}
