import { z } from 'zod';

/** The schema within one that only says how a value is given, or turns it into another; null: it is none of these. */
export function innerOf(schema: z.core.$ZodType): z.core.$ZodType | null {
  const { def } = (schema as z.core.$ZodTypes)._zod;
  switch (def.type) {
    case 'optional':
    case 'nullable':
    case 'default':
    case 'prefault':
    case 'nonoptional':
    case 'readonly':
    case 'catch':
      return def.innerType;
    case 'pipe':
      return def.out;
    default:
      return null;
  }
}

/** The schemas right within one. */
export function partsOf(schema: z.core.$ZodType): readonly z.core.$ZodType[] {
  const { def } = (schema as z.core.$ZodTypes)._zod;
  if (def.type === 'object') return Object.values(def.shape);
  if (def.type === 'array') return [def.element];
  if (def.type === 'record') return [def.valueType];
  if (def.type === 'union') return def.options;
  const inner = innerOf(schema);
  return inner ? [inner] : [];
}

/** The member of a union by which a value was read: the first that takes it. It is tried again, because a union does not say which one that was. */
export const takenBy = (options: readonly z.core.$ZodType[], value: unknown): z.core.$ZodType | undefined =>
  options.find((one) => z.safeParse(one, value).success);
