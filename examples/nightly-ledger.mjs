// nightly-ledger: posts the day's fares to the books, once. It sends the call to the relay, which adds the token: the job holds no token
// of the provider, and knows nothing of certificates, sessions and base URLs. Settings come from the environment.
const { RELAY_URL, CALLER_ID, CALLER_KEY } = process.env;
if (!RELAY_URL || !CALLER_ID || !CALLER_KEY) {
  process.stderr.write('Set RELAY_URL, CALLER_ID and CALLER_KEY.\n');
  process.exit(2);
}

const posted = await fetch(`${RELAY_URL}/postings`, {
  method: 'POST',
  headers: { authorization: `Basic ${Buffer.from(`${CALLER_ID}:${CALLER_KEY}`).toString('base64')}`, 'content-type': 'application/json' },
  body: JSON.stringify({ day: 1, account: '4000', amount: '412.00', text: 'Fares of the day' }),
  signal: AbortSignal.timeout(30_000),
});
process.stdout.write(`${posted.status} ${await posted.text()}\n`);
process.exit(posted.ok ? 0 : 1);
