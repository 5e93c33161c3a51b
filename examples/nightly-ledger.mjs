// nightly-ledger: posts the day's fares to the books, once. Like any scheduled job it knows a token URL, an id and a secret, and names
// the connection it wants by `resource` (RFC 8707); nothing in it knows how the token was got. Settings come from the environment.
const { TOKEN_URL, CLIENT_ID, CLIENT_SECRET, RESOURCE } = process.env;
if (!TOKEN_URL || !CLIENT_ID || !CLIENT_SECRET || !RESOURCE) {
  process.stderr.write('Set TOKEN_URL, CLIENT_ID, CLIENT_SECRET and RESOURCE.\n');
  process.exit(2);
}

const asked = await fetch(TOKEN_URL, {
  method: 'POST',
  headers: { authorization: `Basic ${Buffer.from(`${CLIENT_ID}:${CLIENT_SECRET}`).toString('base64')}` },
  body: new URLSearchParams({ grant_type: 'client_credentials', resource: RESOURCE }),
  signal: AbortSignal.timeout(15_000),
});
const token = await asked.json();
if (!asked.ok) {
  process.stdout.write(`no token: ${token.error}: ${token.error_description}\n`);
  process.exit(1);
}
// The answer names the API's address too. Node looks up *.localhost nowhere (RFC 6761), so the stand-in is called at 127.0.0.1.
const address = new URL(`${token.base_url}/postings`);
if (address.hostname.endsWith('.localhost')) address.hostname = '127.0.0.1';
const posted = await fetch(address, {
  method: 'POST',
  headers: { authorization: `Bearer ${token.access_token}`, 'content-type': 'application/json', 'accept-language': 'en' },
  body: JSON.stringify({ day: 1, account: '4000', amount: '412.00', text: 'Fares of the day' }),
  signal: AbortSignal.timeout(15_000),
});
process.stdout.write(`${posted.status} ${await posted.text()}\n`);
process.exit(posted.ok ? 0 : 1);
