import { z } from 'zod';
import { ConnectionName } from './common.ts';
import { maskedAs } from './masking.ts';
import { SavedCall } from './trying.ts';

/** A connection as the caller sees it that may use it. */
export const OwnConnection = z.object({
  name: ConnectionName,
  intent: z.enum(['draft', 'active', 'paused', 'revoked']),
  shared: z.boolean().describe('Holds a grant for each person: {KEY} is the application\u2019s own key for the person, percent-encoded'),
  consented: z.boolean().describe('There is a grant to use'),
  environment: z.string(),
  scope: z.string(),
  says: z.string().describe('What this caller may do with it'),
  resource: z.string().nullable().describe('Names it at the token endpoint; null: relay only'),
  relay_url: z.string().nullable().describe('Null: tokens only'),
  apis: z.array(z.string()).describe('The first is meant where none is named; another one as NAME~API at the relay'),
});
export type OwnConnection = z.output<typeof OwnConnection>;

/** A saved call as the caller may make it. */
export const OwnCall = maskedAs(
  'saved',
  SavedCall.extend({
    permitted: z.boolean().describe('This caller may send its method and path through the relay'),
    curl: z
      .string()
      .nullable()
      .describe('Null: its address is below no API any more. Through the relay, with the names in braces that are filled in at each call'),
  }),
);
export type OwnCall = z.output<typeof OwnCall>;
