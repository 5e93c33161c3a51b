import { z } from 'zod';
import { Id, Instant } from './common.ts';
import type { Operation } from './operation.ts';

export const KeysShown = z.object({
  master_key: z.string().describe('The ID of the master key; the key itself is never shown'),
  master_key_changed_at: Instant.nullable(),
  data_keys: z.array(
    z.object({
      id: Id,
      seals: z.boolean().describe('Whether it seals now; the others only open'),
      created_at: Instant,
      values: z.number().int().describe('How many values it seals'),
      master_key: z.string().describe('The ID of the master key that wraps it'),
    }),
  ),
  without_key: z.number().int().describe('Values whose data key is gone: they do not open'),
  reseal: z
    .object({
      state: z.enum(['running', 'done']),
      key: Id,
      done: z.number().int(),
      total: z.number().int(),
      started_by: z.string(),
      started_at: Instant,
      ended_at: Instant.nullable(),
    })
    .nullable()
    .describe('The last time that values were sealed under a new data key'),
});
export type KeysShown = z.output<typeof KeysShown>;

export const keyOperations = {
  showKeys: { method: 'GET', path: '/api/v1/keys', access: 'operator', says: 'Show which key seals how many values', answer: KeysShown },
  rotateKeys: {
    method: 'POST',
    path: '/api/v1/keys/rotate',
    access: 'operator',
    says: 'Make a new data key and re-seal everything under it, in the background',
    answer: KeysShown,
  },
} as const satisfies Record<string, Operation>;
