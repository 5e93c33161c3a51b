import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { text } from 'node:stream/consumers';
import { exportJWK, generateKeyPair, type JWTPayload, SignJWT } from 'jose';

/** A simulated OpenID Connect provider. What it does otherwise than it should is a habit that a test switches on. */
interface Habits {
  /** Where groups stand. */
  groups: 'claim' | 'elsewhere' | 'user_info' | 'missing';
  /** Where names stand (OpenID Connect Core 5.4). */
  names: 'claim' | 'user_info' | 'missing';
  /** Added to its clock, in seconds. */
  clockSeconds: number;
  /** Replaces claims of the next ID tokens. */
  claims: JWTPayload;
  /** Signs the next ID token itself. */
  sign: ((claims: JWTPayload) => Promise<string>) | null;
  down: boolean;
  /** In answers: its issuer, or another. */
  iss: string | null;
}
export interface Person {
  sub: string;
  preferred_username: string;
  groups: string[];
  sid?: string;
}

export async function startIdentityProvider() {
  let [person, key, kid] = [null as Person | null, await generateKeyPair('RS256'), 'k1'];
  const habits: Habits = { groups: 'claim', names: 'claim', clockSeconds: 0, claims: {}, sign: null, down: false, iss: null };
  const codes = new Map<string, { nonce: string; challenge: string; person: Person }>();
  const seen: string[] = [];
  const now = () => Math.floor(Date.now() / 1000) + habits.clockSeconds;
  const signed = (claims: JWTPayload) => new SignJWT(claims).setProtectedHeader({ alg: 'RS256', kid }).sign(key.privateKey);
  let issuer = '';
  const json = (response: ServerResponse, status: number, body: unknown) => {
    response.writeHead(status, { 'content-type': 'application/json' });
    response.end(JSON.stringify(body));
  };
  const answer = async (request: IncomingMessage, response: ServerResponse): Promise<void> => {
    const url = new URL(request.url ?? '/', issuer);
    seen.push(url.pathname);
    if (habits.down) return void request.socket.destroy();
    if (url.pathname === '/.well-known/openid-configuration')
      return json(response, 200, {
        ...{
          issuer,
          authorization_endpoint: `${issuer}/authorize`,
          token_endpoint: `${issuer}/token`,
          jwks_uri: `${issuer}/keys`,
          userinfo_endpoint: `${issuer}/me`,
        },
        ...{ code_challenge_methods_supported: ['S256'], authorization_response_iss_parameter_supported: true },
      });
    if (url.pathname === '/keys') return json(response, 200, { keys: [{ ...(await exportJWK(key.publicKey)), kid, alg: 'RS256', use: 'sig' }] });
    if (url.pathname === '/authorize') {
      if (!person) return json(response, 403, { error: 'nobody is signed in' });
      const code = `code-${codes.size}`;
      codes.set(code, { nonce: url.searchParams.get('nonce') ?? '', challenge: url.searchParams.get('code_challenge') ?? '', person });
      const back = new URL(url.searchParams.get('redirect_uri') ?? '');
      for (const [name, value] of Object.entries({ code, state: url.searchParams.get('state') ?? '', iss: habits.iss ?? issuer }))
        back.searchParams.set(name, value);
      response.writeHead(302, { location: back.href });
      return void response.end();
    }
    if (url.pathname === '/token') {
      const form = new URLSearchParams(await text(request));
      const given = codes.get(form.get('code') ?? '');
      codes.delete(form.get('code') ?? '');
      const expected = `Basic ${Buffer.from('kettle:idp-secret').toString('base64')}`;
      const { codeChallenge } = await import('../../src/core/oauth/pkce.ts');
      if (!given || request.headers.authorization !== expected || codeChallenge(form.get('code_verifier') ?? '') !== given.challenge)
        return json(response, 400, { error: 'invalid_grant' });
      const { groups, ...who } = given.person;
      const claims: JWTPayload = {
        ...{
          iss: issuer,
          aud: 'kettle',
          ...who,
          ...(habits.names === 'claim' ? {} : { preferred_username: undefined }),
          nonce: given.nonce,
          iat: now(),
          exp: now() + 300,
        },
        ...(habits.groups === 'claim' ? { groups } : {}),
        ...(habits.groups === 'elsewhere' ? { _claim_names: { groups: 'src1' }, _claim_sources: { src1: { endpoint: `${issuer}/groups` } } } : {}),
        ...habits.claims,
      };
      return json(response, 200, { access_token: `at-${given.person.sub}`, token_type: 'Bearer', id_token: await (habits.sign ?? signed)(claims) });
    }
    if (!person || request.headers.authorization !== `Bearer at-${person.sub}`) return json(response, 401, { error: 'invalid_token' });
    if (url.pathname === '/groups') return json(response, 200, { value: person.groups });
    const named = habits.names === 'user_info' ? { preferred_username: person.preferred_username } : {};
    return json(response, 200, { sub: person.sub, ...named, ...(habits.groups === 'user_info' ? { groups: person.groups } : {}) });
  };
  const server = createServer((request, response) => void answer(request, response));
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  issuer = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
  return {
    issuer,
    habits,
    seen,
    signed,
    /** Who sits in front of the browser. */
    isPerson(one: Person | null): void {
      person = one;
    },
    async rotateKeys() {
      [key, kid] = [await generateKeyPair('RS256'), `k${Number(kid.slice(1)) + 1}`];
    },
    stop: () => {
      server.closeAllConnections();
      server.close();
    },
  };
}
