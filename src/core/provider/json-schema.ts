import { z } from 'zod';
import { ProviderDefinition } from './definition.ts';

/** The definition format as JSON Schema, made from the Zod schema. What refers to several members is checked by the service alone. */
export const definitionSchema = (): Record<string, unknown> => ({
  ...(z.toJSONSchema(ProviderDefinition, { io: 'input', unrepresentable: 'any' }) as Record<string, unknown>),
  title: 'Rusty Kettle provider definition',
  description: 'Members of `server` carry the names of RFC 8414. Unknown members are rejected.',
});
