import { createHash, randomBytes } from 'node:crypto';
import { OperatorBrowser as Browser } from '../../testing/operator-browser.ts';
import { PASSWORD } from '../../testing/service.ts';

/** A browser in which the tests' operator can sign in. */
export class OperatorBrowser extends Browser {
  override signIn(name = 'marit', password = PASSWORD): Promise<this> {
    return super.signIn(name, password);
  }
}

export interface ToolOptions {
  url: string;
  callerId: string;
  /** Null: a tool that keeps no secret. */
  key: string | null;
  redirectUri: string;
  pkce?: boolean;
  /** Further or other parameters of the authorization request; null leaves one out. */
  ask?: Record<string, string | null>;
}

export interface TokenReply {
  status: number;
  headers: Headers;
  body: Record<string, string | number>;
}

/** A tool that only knows "sign in": code flow, exchange, renewal, revocation, as any OAuth client does them. */
export function tool(options: ToolOptions) {
  const verifier = randomBytes(32).toString('base64url');
  const state = randomBytes(12).toString('base64url');
  const { url, callerId, key, redirectUri } = options;
  const parameters: Record<string, string | null> = {
    response_type: 'code',
    client_id: callerId,
    redirect_uri: redirectUri,
    state,
    ...(options.pkce === false ? {} : { code_challenge: createHash('sha256').update(verifier).digest('base64url'), code_challenge_method: 'S256' }),
    ...options.ask,
  };
  const query = new URLSearchParams(Object.entries(parameters).flatMap(([name, value]) => (value === null ? [] : [[name, value] as [string, string]])));
  const authorize = `/oauth/authorize?${query}`;
  const post = async (path: string, form: Record<string, string>): Promise<TokenReply> => {
    const response = await fetch(`${url}${path}`, {
      method: 'POST',
      headers: key === null ? {} : { authorization: `Basic ${Buffer.from(`${callerId}:${key}`).toString('base64')}` },
      body: new URLSearchParams(key === null ? { client_id: callerId, ...form } : form),
    });
    const text = await response.text();
    return { status: response.status, headers: response.headers, body: text === '' ? {} : (JSON.parse(text) as TokenReply['body']) };
  };
  return {
    authorize,
    state,
    verifier,
    /** Goes to sign-in for tools in a browser and answers there; where the browser was sent back to. */
    signIn: (browser: OperatorBrowser, connection: string | null): Promise<URL> => browser.answerSignIn(authorize, connection),
    exchange: (code: string, more: Record<string, string> = {}) =>
      post('/oauth/token', {
        grant_type: 'authorization_code',
        code,
        redirect_uri: redirectUri,
        ...(options.pkce === false ? {} : { code_verifier: verifier }),
        ...more,
      }),
    renew: (refreshToken: string) => post('/oauth/token', { grant_type: 'refresh_token', refresh_token: refreshToken }),
    revoke: (token: string) => post('/oauth/revoke', { token }),
    /** All of it: the first tokens. */
    async tokens(browser: OperatorBrowser, connection: string): Promise<TokenReply> {
      const back = await this.signIn(browser, connection);
      return this.exchange(back.searchParams.get('code') ?? '');
    },
  };
}
