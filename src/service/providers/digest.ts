import { createHash } from 'node:crypto';
import type { ProviderDefinition } from '../../core/provider/definition.ts';

/** By what two versions of a definition are distinguished. */
export const digestOf = (definition: ProviderDefinition): string => createHash('sha256').update(JSON.stringify(definition)).digest('hex');
