import { isKey } from '../../core/oauth/grant-kinds.ts';
import { type Api, type SessionStep, withStaticKey } from '../../core/provider/api.ts';
import { withApiBase } from '../../core/provider/api-base.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import type { Environment } from '../../core/provider/kinds.ts';
import type { Definitions } from '../renewal/index.ts';
import type { DefinitionUse } from '../store/definition-uses.ts';

export interface SetUpRow extends DefinitionUse {
  api_base_url: string | null;
  /** What the grant came from; a static key has a header of its own. */
  kind: string | null;
}

/** How the APIs of a connection are called: shared by all connections of the same set-up, of which a caller may have a hundred thousand. */
export interface SetUp {
  definition: ProviderDefinition;
  apis: readonly Api[];
  environment: Environment;
  /** True while an origin waits for an operator's confirmation: nothing is sent there. */
  unconfirmed: boolean;
  /** The second step that turns an access token into a session token, and the API that wants it; null: none. */
  session: { api: Api; step: SessionStep } | null;
  /** Further members of the token answer, as JSON after a comma: what callers must know besides the token; mostly empty. */
  extras: string;
  /** The members of `extras` for a session whose address is only known once it is opened. */
  extrasAt(baseUrl: string): string;
}

/** Worked out once for each different set-up. */
export function setUpReader(definitions: Definitions): (row: SetUpRow) => Promise<SetUp> {
  const made = new Map<string, SetUp>();
  return async (row) => {
    const key = `${row.version_id.toString('hex')} ${row.environment} ${row.variant} ${row.rehearsal_port} ${row.placeholders} ${row.own_placeholders} ${row.api_base_url} ${row.kind === 'static_key'} ${row.trusted_origins}`;
    const present = made.get(key) ?? (await setUpOf(row, definitions));
    made.set(key, present);
    return present;
  };
}

async function setUpOf(row: SetUpRow, definitions: Definitions): Promise<SetUp> {
  const { definition: whole, values, environment, unconfirmed } = await definitions(row);
  const meets = withApiBase(whole, row.api_base_url);
  const definition = isKey(row.kind ?? '') ? withStaticKey(meets) : meets;
  const [api] = definition.apis;
  const session = sessionOf(definition.apis, row.kind);
  const members: Record<string, unknown> = {};
  const [header, word] = session && session.api === api ? [session.step.token_header, session.step.token_word] : [api?.token_header, api?.token_word];
  if (header !== 'authorization' || word !== 'Bearer') Object.assign(members, { header_name: header, header_word: word });
  if (Object.keys(values).length > 0) members.placeholders = values;
  const isNamed = row.api_base_url !== null || Object.keys(values).length > 0;
  return {
    definition,
    apis: definition.apis,
    environment,
    unconfirmed: unconfirmed.length > 0,
    session,
    extras: asMembers(isNamed && unconfirmed.length === 0 ? { ...members, base_url: api?.base_url } : members),
    extrasAt: (baseUrl) => asMembers({ ...members, base_url: baseUrl }),
  };
}

/** A static key is sent as it is: it opens no session. */
export function sessionOf(apis: readonly Api[], kind: string | null): SetUp['session'] {
  const api = apis.find((one) => one.session);
  return api?.session && !isKey(kind ?? '') ? { api, step: api.session } : null;
}

const asMembers = (members: Record<string, unknown>): string => {
  const text = JSON.stringify(members).slice(1, -1);
  return text === '' ? '' : `,${text}`;
};
