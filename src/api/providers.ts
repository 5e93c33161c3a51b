import { z } from 'zod';
import { ProviderDefinition } from '../core/provider/definition.ts';
import { Instant, ProviderName } from './common.ts';

export const AddProvider = z.strictObject({ document: z.string().min(1).max(200_000).describe('The text of a definition file, YAML or JSON') });

export const ProviderSummary = z.object({
  name: ProviderName,
  title: z.string(),
  about: z.string(),
  clients: z.number().int(),
  connections: z.number().int(),
  added_at: Instant,
});
export const Provider = ProviderSummary.extend({ definition: ProviderDefinition, digest: z.string() });
export type ProviderSummary = z.output<typeof ProviderSummary>;
export type Provider = z.output<typeof Provider>;
export const CheckedProvider = z.object({ definition: ProviderDefinition, exists: z.boolean() });
