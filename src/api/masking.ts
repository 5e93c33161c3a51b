import { z } from 'zod';
import { maskedAddress, maskedCall, maskedSaved, maskedValues } from '../core/calls/secret-values.ts';
import { MASK } from '../core/calls/stored-values.ts';
import { innerOf, partsOf, takenBy } from './schema-walk.ts';

/** How what a schema reads is masked. Whatever response holds it, and wherever: operators get it masked. */
const MASKS = {
  call: (value: never) => maskedCall(value, MASK),
  saved: (value: never) => maskedSaved(value, MASK),
  values: (value: never) => maskedValues(value, MASK),
  address: (value: never) => maskedAddress(value, MASK),
};
const registry = z.registry<{ as: keyof typeof MASKS }>();

/** Marks a schema whose value may hold secrets. */
export const maskedAs = <S extends z.ZodType>(as: keyof typeof MASKS, schema: S): S => {
  registry.add(schema, { as });
  return schema;
};

/** A response as operators get it: what may be a secret is shown by an operation of its own, which writes an entry in Activity. */
export const maskedAnswer = (schema: z.ZodType, value: unknown): unknown => walk(schema as z.core.$ZodType, value);

/** Most responses hold nothing to mask, and may be long: they are not walked. */
const masks = new WeakMap<z.core.$ZodType, boolean>();
function isMasking(schema: z.core.$ZodType): boolean {
  const known = masks.get(schema);
  if (known !== undefined) return known;
  masks.set(schema, false); // while its parts are looked through: one may hold itself
  const found = registry.has(schema as z.ZodType) || partsOf(schema).some(isMasking);
  masks.set(schema, found);
  return found;
}

function walk(schema: z.core.$ZodType, value: unknown): unknown {
  if (value === undefined || value === null || !isMasking(schema)) return value;
  const marked = registry.get(schema as z.ZodType);
  if (marked) return MASKS[marked.as](value as never);
  const { def } = (schema as z.core.$ZodTypes)._zod;
  switch (def.type) {
    case 'object':
      return Object.fromEntries(
        Object.entries(value as object).map(([key, one]) => {
          const inner = Object.hasOwn(def.shape, key) ? def.shape[key] : undefined;
          return [key, inner ? walk(inner, one) : one];
        }),
      );
    case 'array':
      return (value as unknown[]).map((one) => walk(def.element, one));
    case 'record':
      return Object.fromEntries(Object.entries(value as object).map(([key, one]) => [key, walk(def.valueType, one)]));
    case 'union': {
      const taken = takenBy(def.options, value);
      return taken ? walk(taken, value) : value;
    }
    default: {
      const inner = innerOf(schema);
      return inner ? walk(inner, value) : value;
    }
  }
}
