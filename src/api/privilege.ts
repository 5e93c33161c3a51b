import { z } from 'zod';
import { REACH_WIDTHS } from '../core/privilege/report.ts';
import { POWERS } from '../core/provider/definition.ts';
import { Instant } from './common.ts';
import type { Operation } from './operation.ts';

const PowerWord = z.enum(POWERS).nullable().describe('Null: the definition does not list the scopes');
export const PrivilegeShown = z.object({
  at: Instant,
  connections: z.array(
    z.object({
      name: z.string(),
      client: z.string(),
      environment: z.string(),
      power: PowerWord,
      width: z.enum(REACH_WIDTHS),
      account: z.string().nullable(),
      granted: z.array(z.string()),
      unneeded: z.array(z.string()).describe('Granted scopes that nothing set up here needs'),
      unneeded_known: z.boolean().describe('false: callers fetch its tokens, or nothing says what it is for'),
      callers: z.array(z.string()),
      jobs: z.array(z.string()),
    }),
  ),
  connections_total: z.number().int().describe('Those with most privilege are listed first, at most 2,000'),
  clients: z.array(
    z.object({ name: z.string(), environment: z.string(), power: PowerWord, acts_for_itself: z.boolean(), says: z.string(), connections: z.number().int() }),
  ),
  callers: z.array(
    z.object({ name: z.string(), opens: z.string(), use: z.string(), tokens: z.number().int(), relayed: z.number().int(), could: z.string().nullable() }),
  ),
  dependents: z
    .array(z.object({ account: z.string(), provider: z.string(), connections: z.array(z.string()), jobs: z.array(z.string()), callers: z.array(z.string()) }))
    .describe('People on whose accounts schedules and callers depend'),
  days: z.number().int().describe('How long uses are kept'),
});
export type PrivilegeShown = z.output<typeof PrivilegeShown>;

export const privilegeOperations = {
  showPrivilege: {
    method: 'GET',
    path: '/api/v1/privilege',
    access: 'operator',
    says: 'Show what clients, connections and callers can do, and what of it nothing needs',
    answer: PrivilegeShown,
  },
  exportPrivilege: {
    method: 'POST',
    path: '/api/v1/privilege/export',
    access: 'operator',
    says: 'Export the same as CSV, for an auditor',
    answer: z.object({ name: z.string(), text: z.string() }),
  },
} as const satisfies Record<string, Operation>;
