import pTimeout from 'p-timeout';
import { Fault } from '../../core/fault.ts';
import { KEY_LIFE_MS, KEY_LIFE_SHOWN_SECONDS } from '../../core/oauth/grant-kinds.ts';
import type { Ports } from '../ports.ts';
import { type ApiToken, type ApiTokens, OAUTH_HEADERS, type OAuthAnswer, type PermittedConnection, Refusal } from '../tokens/index.ts';

/** The token of a connection, and the answer that carries it. */
export interface Issuing {
  /** @throws {Refusal} for what a person must fix @throws {Fault} for what is temporary */
  tokenOf(connection: PermittedConnection, minimumLifeMs: number): Promise<ApiToken>;
  /** `more`: further members after a comma. */
  answerOf(connection: PermittedConnection, token: ApiToken, more: string): OAuthAnswer;
}

export function issuing(parts: { publicUrl: string; tokens: ApiTokens; ports: Pick<Ports, 'clock'> }): Issuing {
  const { publicUrl, tokens, ports } = parts;
  const refuseIdle = (connection: PermittedConnection, uri: string): string => {
    const { name, intent, grantId } = connection;
    if (intent === 'paused') throw new Refusal(400, 'invalid_target', `The connection ${name} is paused.`, { uri });
    if (connection.shared)
      throw new Refusal(400, 'invalid_target', `${name} is shared: name the person, as resource=${publicUrl}/connections/${name}/people/KEY.`, { uri });
    if (grantId === null) throw new Refusal(400, 'invalid_grant', 'Nobody has consented to this connection yet.', { uri });
    if (intent === 'revoked') throw new Refusal(400, 'invalid_grant', 'The connection was revoked.', { uri });
    if (!connection.mayFetch) throw new Refusal(400, 'invalid_target', `This caller uses ${name} through the relay only: ${publicUrl}/relay/${name}/`, { uri });
    if (connection.setUp.session && connection.setUp.unconfirmed)
      throw new Fault('CLIENT_STOPPED', { detail: 'New addresses of the provider are not confirmed yet.' });
    return grantId;
  };
  return {
    async tokenOf(connection, minimumLifeMs) {
      const uri = `${publicUrl}/#/connections/${connection.name}`;
      const grantId = refuseIdle(connection, uri);
      try {
        return await inTime(minimumLifeMs === 0 ? tokens.get(grantId, connection.setUp) : tokens.get(grantId, connection.setUp, { minimumLifeMs }));
      } catch (error) {
        if (error instanceof Fault && error.code === 'GRANT_REFUSED' && error.retryAfterMs === undefined)
          throw new Refusal(400, 'invalid_grant', `${error.message} ${error.remedy}`, { uri });
        throw error;
      }
    },
    /** Written by hand: JSON.stringify over a long token costs more than all the checks together. */
    answerOf(connection, token, more) {
      // Never more than its own life, whatever a clock says.
      const restSeconds = Math.floor(Math.min(token.expiresAt - ports.clock.now(), token.expiresAt - token.issuedAt) / 1000) - 1;
      const expiresIn = restSeconds > KEY_LIFE_MS / 2_000 ? KEY_LIFE_SHOWN_SECONDS : restSeconds; // a static key
      const extras = token.baseUrl === null ? connection.setUp.extras : connection.setUp.extrasAt(token.baseUrl);
      return {
        status: 200,
        headers: OAUTH_HEADERS,
        body: `{"access_token":${quoted(token.access.reveal())},"token_type":"Bearer","expires_in":${Math.max(expiresIn, 0)},"scope":${quoted(connection.scope)}${extras}${more}}`,
      };
    },
  };
}

const PLAIN = /^[\x20\x21\x23-\x5b\x5d-\x7e]*$/;
/** A text as JSON; most need no escape. */
export const quoted = (text: string): string => (PLAIN.test(text) ? `"${text}"` : JSON.stringify(text));

/** Longer than a token issuance waits for a renewal: only a database that is there and does not answer well takes so long. */
const ANSWER_WITHIN_MS = 15_000;

/** @throws {Fault} RENEWAL_PENDING after the deadline; what was begun goes on behind it */
const inTime = <T>(work: Promise<T>): Promise<T> =>
  pTimeout(work, {
    milliseconds: ANSWER_WITHIN_MS,
    fallback: () => {
      throw new Fault('RENEWAL_PENDING', { detail: 'The token was not available in time.', retryAfterMs: 5_000 });
    },
  });
