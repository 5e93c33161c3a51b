import type { ProviderDefinition } from '../core/provider/definition.ts';

/** What a provider does that its definition cannot say, because the definition states how we cope with it. */
export interface Habits {
  /** Its token answers name no lifetime: the token lives as long as the definition assumes. */
  namesNoLife: boolean;
  /** Its token answers name people by an id that they have for life, and by their name. */
  lastingIds: boolean;
  /** Calls that want a token got with a certificate. */
  wantsKeyFor: RegExp | null;
  /** Access tokens are JWTs that name an audience; any is taken at the token endpoint, one by the API. */
  audience: string | null;
  /** Calls for which an account must have a right of its own. */
  needsRight: RegExp | null;
  /** Accounts that are of a kind which it does not take. */
  kindRefused: string | null;
}

const NONE: Habits = { namesNoLife: false, lastingIds: false, wantsKeyFor: null, audience: null, needsRight: null, kindRefused: null };
const HABITS: Record<string, Partial<Habits>> = {
  piermaster: { namesNoLife: true, audience: 'pm:dir:staff' },
  eelgrass: { needsRight: /^GET .*\/calendars$/ },
  bosunry: { kindRefused: 'shared account' },
  oakum: { lastingIds: true },
  ledgerfin: { wantsKeyFor: /^POST .*\/postings$/ },
};

export const habitsOf = (definition: Pick<ProviderDefinition, 'name'>): Habits => ({ ...NONE, ...HABITS[definition.name] });

/** Where the API stands that a token answer names: beside the one of the definition, on a host of the same suffix. */
export function answeredApi(definition: ProviderDefinition): string | null {
  const base = definition.apis[0]?.base_url;
  if (!base || !definition.dialect.token_answer.api_base_url) return null;
  return base.replace(/^([a-z]+:\/\/)([a-z0-9-]+)\./, '$1$2-2.');
}

/** Where an API answers in a session, beside the address at which the session is opened; null: there is no such step. */
export function sessionBase(definition: Pick<ProviderDefinition, 'apis'>): string | null {
  const [api] = definition.apis;
  return api?.session?.base_url_at ? api.base_url.replace(/^([a-z]+:\/\/)[a-z0-9-]+\./, '$1books.') : null;
}
