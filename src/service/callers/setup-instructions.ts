import type { z } from 'zod';
import type { SetupInstructions } from '../../api/callers.ts';
import { setupInstructionsFor } from '../../core/callers/setup-instructions.ts';
import { Fault } from '../../core/fault.ts';
import { isKey } from '../../core/oauth/grant-kinds.ts';
import { inSession, probeOf, withStaticKey } from '../../core/provider/api.ts';
import { findKnown } from '../connections/index.ts';
import { connectionDefinition } from '../grants/index.ts';
import { sessionOf } from '../tokens/index.ts';
import { findCaller } from './callers.ts';
import type { CallerParts } from './parts.ts';
import { connectionsOf, rulesFor } from './permissions.ts';

/** What to paste where, with this caller's values, for one connection. @throws {Fault} NOT_FOUND, NOT_PERMITTED */
export async function listSetupInstructions(s: CallerParts, name: string, connectionName: string): Promise<{ items: z.output<typeof SetupInstructions>[] }> {
  const record = await findCaller(s, name);
  const one = await findKnown(s, connectionName);
  const [permissions, opened] = await Promise.all([rulesFor(s, record.id, one.id), connectionsOf(s, record.id)]);
  if (permissions.length === 0)
    throw new Fault('NOT_PERMITTED', {
      detail: `${name} may not use ${connectionName}.`,
      remedy: 'Permit it first, on the caller\u2019s page or by `rk caller permit`.',
    });
  const { definition: whole } = await connectionDefinition(s, one);
  const definition = isKey(one.kind ?? '') ? withStaticKey(whole) : whole;
  const [api] = definition.apis;
  if (!api) throw new Fault('NOT_FOUND', { detail: `The definition of ${definition.title} names no API.` });
  const session = sessionOf(definition.apis, one.kind);
  const meets = session?.api === api ? inSession(api, { baseUrl: null }) : api;
  const probe = probeOf(definition, one.scopes);
  const items = setupInstructionsFor(
    s.settings.publicUrl,
    {
      callerId: record.callerId,
      tokenPath: record.tokenPath,
      redirectUris: record.redirectUris,
      keepsNoSecret: record.keepsNoSecret,
      hasOne: opened.total === 1,
    },
    {
      name: connectionName,
      permissions,
      baseUrl: meets.base_url.replace(/\/$/, ''),
      header: meets.token_header,
      word: meets.token_word,
      path: probe?.path ?? '/',
      readsPath: probe?.method === 'GET',
      renewalEndsToken: definition.dialect.renewal_ends_access_token,
      hasSession: session !== null,
    },
  );
  return { items };
}
