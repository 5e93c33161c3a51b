import { at } from '../json.ts';
import type { WireAnswer } from '../oauth/wire.ts';
import type { Api, SessionStep } from './api.ts';
import { apiBaseAllowed } from './api-base.ts';
import type { ProviderDefinition } from './definition.ts';

/** What the second step brings: a token and an address with a lifetime of their own. */
export interface OpenedSession {
  token: string;
  /** Null: the API's own base URL. */
  baseUrl: string | null;
  lifeMs: number;
}

const MAX_LIFE_SECONDS = 604_800;

/** The address at which a session is opened. */
export const sessionAddress = (api: Api, step: SessionStep): string => `${api.base_url.replace(/\/$/, '')}${step.path}`;

/** True for an answer to the step that says that the access token itself is not good. */
export const refusesAccess = (answer: WireAnswer): boolean => answer.status === 401;

/** The session in an answer, or why there is none, in words. A named address is taken only where the definition lists its host. */
export function readSession(definition: Pick<ProviderDefinition, 'api_hosts'>, step: SessionStep, answer: WireAnswer): OpenedSession | string {
  if (answer.status < 200 || answer.status >= 300) return `It answered ${answer.status}.`;
  let document: unknown;
  try {
    document = JSON.parse(answer.body);
  } catch {
    return 'Its answer is not JSON.';
  }
  const token = at(document, step.token_at);
  if (typeof token !== 'string' || token === '' || !/^[\x21-\x7e]+$/.test(token)) return `Its answer holds no session token at ${step.token_at}.`;
  const named = step.base_url_at === undefined ? null : at(document, step.base_url_at);
  if (named !== null && (typeof named !== 'string' || !apiBaseAllowed(definition, named)))
    return 'It names an address whose host the definition does not list.';
  const seconds = step.life_at === undefined ? step.life_seconds : Number(at(document, step.life_at));
  const life = Number.isFinite(seconds) && seconds > 0 ? Math.min(seconds, MAX_LIFE_SECONDS) : step.life_seconds;
  return { token, baseUrl: named === null ? null : named.replace(/\/$/, ''), lifeMs: life * 1000 };
}
