import { mayFetch } from '../../core/callers/permissions.ts';
import { type Form, type KnownCaller, OAUTH_HEADERS, type OAuthAnswer, type PermittedConnection, Refusal } from '../tokens/index.ts';
import type { Shown, ToolRefusal, ToolTokens } from '../tool-sign-ins/index.ts';
import type { Usage } from '../usage/index.ts';
import type { Authenticated } from './authentication.ts';
import { type Issuing, quoted } from './issuing.ts';

/** Codes and refresh tokens of tools that signed in here (RFC 6749 §4.1.3, §6). @throws {Refusal} */
export type AnswerTool = (grantType: string, who: Authenticated, form: Form) => Promise<OAuthAnswer>;

/** What was shown is spent only when there is a token to answer with. */
export function answersForTools(parts: { publicUrl: string; tools: ToolTokens; usage: Usage; issuing: Issuing }): AnswerTool {
  const { publicUrl, tools, usage, issuing } = parts;
  return async (grantType, { caller, keyId }, form) => {
    const shown = grantType === 'authorization_code' ? await showCode(tools, caller, form) : await showRefreshToken(tools, caller, form);
    if ('refused' in shown) throw new Refusal(400, 'invalid_grant', shown.refused);
    const connection = caller.connections.get(shown.connection);
    if (!connection) throw new Refusal(400, 'invalid_grant', 'The caller may not use this connection any more.');
    const isRelayOnly = !mayFetch(connection.permissions);
    const token = isRelayOnly ? null : await issuing.tokenOf(connection, 0).catch((error: unknown) => Promise.reject(forTool(error, connection)));
    if (isRelayOnly && connection.intent === 'revoked') throw new Refusal(400, 'invalid_grant', 'The connection was revoked.');
    const spent = await shown.spend();
    if (spent === null) throw new Refusal(400, 'invalid_grant', 'It was used twice: someone else has a copy. The sign-in was ended.');
    usage.count(caller.id, connection, keyId, 'token');
    const more = `,"refresh_token":${quoted(spent.refreshToken)}`;
    if (token) {
      await tools.noteHanded(spent.signInId, token.access, token.expiresAt);
      return issuing.answerOf(connection, token, more);
    }
    const { token: opaque, seconds } = await tools.relayToken(spent.signInId);
    const members = {
      access_token: opaque,
      token_type: 'Bearer',
      expires_in: seconds,
      scope: connection.scope,
      base_url: `${publicUrl}/relay/${connection.name}`,
    };
    return { status: 200, headers: OAUTH_HEADERS, body: `${JSON.stringify(members).slice(0, -1)}${more}}` };
  };
}

async function showCode(tools: ToolTokens, caller: KnownCaller, form: Form): Promise<Shown | ToolRefusal> {
  const code = form.get('code');
  if (!code) throw new Refusal(400, 'invalid_request', 'code is missing.');
  return tools.showCode(caller, code, form.get('redirect_uri'), form.get('code_verifier'));
}

async function showRefreshToken(tools: ToolTokens, caller: KnownCaller, form: Form): Promise<Shown | ToolRefusal> {
  const token = form.get('refresh_token');
  if (!token) throw new Refusal(400, 'invalid_request', 'refresh_token is missing.');
  return tools.showRefreshToken(caller, token);
}

/**
 * A tool throws its refresh token away at `invalid_grant`: only a revoked connection may cost it that. What a person can fix (a pause, a
 * consent that is missing) is temporary to it.
 */
function forTool(error: unknown, connection: PermittedConnection): unknown {
  if (!(error instanceof Refusal) || connection.intent === 'revoked') return error;
  return new Refusal(503, 'temporarily_unavailable', error.message, { headers: { 'retry-after': '30' } });
}
