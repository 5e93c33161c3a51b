// deck-announcer: stands for every tool that only knows "sign in". It has boxes for an authorization URL, a token URL, an id, a secret and
// a scope, shows a redirect URI of its own, opens a browser, and renews with the refresh token that it was given. It knows nothing of
// connections. Settings come from the environment; what it says of itself goes to standard output, a line each.
import { createHash, randomBytes } from 'node:crypto';
import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:http';
import { setTimeout as pause } from 'node:timers/promises';

const { AUTHORIZATION_URL, TOKEN_URL, CLIENT_ID, CLIENT_SECRET = '', SCOPE = '', API_URL, PORT = '0', KEEP = '', EVERY_MS = '5000', CALLS = '0' } = process.env;
if (!AUTHORIZATION_URL || !TOKEN_URL || !CLIENT_ID || !API_URL) {
  process.stderr.write('Set AUTHORIZATION_URL, TOKEN_URL, CLIENT_ID and API_URL; CLIENT_SECRET and SCOPE where there are any.\n');
  process.exit(2);
}
const say = (line) => process.stdout.write(`${line}\n`);
const basic = CLIENT_SECRET === '' ? {} : { authorization: `Basic ${Buffer.from(`${CLIENT_ID}:${CLIENT_SECRET}`).toString('base64')}` };

/** A request to the token URL; without a secret the id goes into the body (RFC 6749 section 3.2.1). */
async function askToken(fields) {
  const body = new URLSearchParams({ ...fields, ...(CLIENT_SECRET === '' ? { client_id: CLIENT_ID } : {}) });
  const response = await fetch(TOKEN_URL, { method: 'POST', headers: basic, body, signal: AbortSignal.timeout(30_000) });
  const answer = await response.json();
  if (!response.ok) throw Object.assign(new Error(`${answer.error}: ${answer.error_description}`), { oauth: answer.error });
  // The refresh token is new each time: kept before anything else is done with the answer.
  if (KEEP && answer.refresh_token) writeFileSync(KEEP, JSON.stringify({ refresh_token: answer.refresh_token }), { mode: 0o600 });
  return { ...answer, endsAt: Date.now() + answer.expires_in * 1000 };
}

/** The code flow with PKCE (RFC 6749 section 4.1, RFC 7636), on a port of the own machine (RFC 8252 section 7.3). */
async function signIn() {
  const verifier = randomBytes(32).toString('base64url');
  const state = randomBytes(16).toString('base64url');
  const server = createServer();
  await new Promise((resolve) => server.listen(Number(PORT), '127.0.0.1', resolve));
  const redirectUri = `http://127.0.0.1:${server.address().port}/signed-in`;
  const query = new URLSearchParams({
    response_type: 'code',
    client_id: CLIENT_ID,
    redirect_uri: redirectUri,
    state,
    code_challenge: createHash('sha256').update(verifier).digest('base64url'),
    code_challenge_method: 'S256',
    ...(SCOPE ? { scope: SCOPE } : {}),
  });
  say(`open ${AUTHORIZATION_URL}?${query}`);
  const given = await new Promise((resolve) => {
    server.on('request', (request, response) => {
      const url = new URL(request.url, redirectUri);
      if (url.pathname !== '/signed-in') return void response.writeHead(404).end();
      response.writeHead(200, { 'content-type': 'text/html; charset=utf-8' });
      response.end('<!doctype html><title>Deck announcer</title><h1>Deck announcer</h1><p>Signed in. You can close this page.</p>');
      resolve(url.searchParams);
    });
  });
  server.close();
  server.closeAllConnections();
  if (given.get('state') !== state) throw new Error('the answer belongs to another sign-in');
  if (given.has('error')) throw new Error(`${given.get('error')}: ${given.get('error_description') ?? 'the answer was no'}`);
  const token = await askToken({ grant_type: 'authorization_code', code: given.get('code'), redirect_uri: redirectUri, code_verifier: verifier });
  say('signed in');
  return token;
}

async function firstToken() {
  if (!KEEP || !existsSync(KEEP)) return signIn();
  return askToken({ grant_type: 'refresh_token', refresh_token: JSON.parse(readFileSync(KEEP, 'utf8')).refresh_token });
}

let token = await firstToken().catch((error) => {
  say(`FAILED to sign in: ${error.message}`);
  process.exit(1);
});
let stop = false;
const count = { calls: 0, failures: 0, renewals: 0 };
for (const signal of ['SIGINT', 'SIGTERM']) process.on(signal, () => (stop = true));
while (!stop && (CALLS === '0' || count.calls < Number(CALLS))) {
  count.calls += 1;
  try {
    if (token.endsAt - Date.now() < 5_000) {
      token = await askToken({ grant_type: 'refresh_token', refresh_token: token.refresh_token });
      count.renewals += 1;
    }
    const answer = await fetch(API_URL, { headers: { authorization: `Bearer ${token.access_token}` }, signal: AbortSignal.timeout(15_000) });
    if (!answer.ok) throw new Error(`the API answered ${answer.status}`);
    const { announcements } = await answer.json();
    if (count.calls === 1) say(`heard: ${announcements[0]?.text ?? 'nothing'}`);
  } catch (error) {
    count.failures += 1;
    say(`FAILED: ${error.message}`);
    if (error.oauth === 'invalid_grant') break; // such tools then ask for a new sign-in
  }
  for (let waited = 0; waited < Number(EVERY_MS) && !stop; waited += 50) await pause(50);
}
say(`${count.calls} calls, ${count.failures} failures, ${count.renewals} renewals`);
process.exit(count.failures > 0 ? 1 : 0);
