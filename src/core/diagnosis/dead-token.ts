import { at, own } from '../json.ts';
import type { Api } from '../provider/api.ts';
import type { Dialect } from '../provider/dialect.ts';

const DEAD = ['token_ended', 'token_unknown'];

/** True for a body that says, in the dialect's own place for errors, that the token is not good: some APIs answer so with status 200. */
export function deadTokenInside(api: Pick<Api, 'error_meanings'>, dialect: Pick<Dialect, 'error_at' | 'error_words'>, body: string): boolean {
  if (dialect.error_at === undefined) return false;
  try {
    const code = at(JSON.parse(body), dialect.error_at);
    if (typeof code !== 'string') return false;
    return DEAD.includes(own(api.error_meanings, code) ?? '') || own(dialect.error_words, code) === 'invalid_grant';
  } catch {
    return false; // not JSON: there is no place for an error
  }
}
