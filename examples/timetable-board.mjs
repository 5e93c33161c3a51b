// timetable-board: a scheduled integration such as anybody would write. It knows a token URL, an id and a secret, and an API;
// nothing in it knows which service is behind the token URL (RFC 6749 §4.4). Settings come from the environment.
const { TOKEN_URL, CLIENT_ID, CLIENT_SECRET, API_URL, EVERY_MS = '3000', QUIET = '' } = process.env;
if (!TOKEN_URL || !CLIENT_ID || !CLIENT_SECRET || !API_URL) {
  process.stderr.write('Set TOKEN_URL, CLIENT_ID, CLIENT_SECRET and API_URL.\n');
  process.exit(2);
}

let token = { value: '', endsAt: 0 };
let stop = false;
const count = { calls: 0, failures: 0, tokens: 0 };
const pause = (ms) => new Promise((resolve) => setTimeout(resolve, ms));

async function freshToken() {
  if (Date.now() < token.endsAt) return token.value;
  const response = await fetch(TOKEN_URL, {
    method: 'POST',
    headers: { authorization: `Basic ${Buffer.from(`${CLIENT_ID}:${CLIENT_SECRET}`).toString('base64')}` },
    body: new URLSearchParams({ grant_type: 'client_credentials' }),
    signal: AbortSignal.timeout(15_000),
  });
  const body = await response.json();
  if (!response.ok) throw new Error(`no token: ${body.error}: ${body.error_description}`);
  if (body.access_token !== token.value) count.tokens += 1;
  // Kept for half of the life that is left, as careful tools do.
  token = { value: body.access_token, endsAt: Date.now() + body.expires_in * 500 };
  return token.value;
}

async function nextSailings() {
  const response = await fetch(API_URL, { headers: { authorization: `Bearer ${await freshToken()}` }, signal: AbortSignal.timeout(15_000) });
  if (!response.ok) throw new Error(`the API answered ${response.status}`);
  const { rows } = await response.json();
  return rows.map((row) => `${row.departs} ${row.boat}`).join(', ');
}

for (const signal of ['SIGINT', 'SIGTERM']) process.on(signal, () => (stop = true));
while (!stop) {
  count.calls += 1;
  try {
    const sailings = await nextSailings();
    if (!QUIET) process.stdout.write(`${new Date().toISOString().slice(11, 19)} next: ${sailings}\n`);
  } catch (error) {
    count.failures += 1;
    process.stdout.write(`FAILED: ${error.message}\n`);
  }
  for (let waited = 0; waited < Number(EVERY_MS) && !stop; waited += 50) await pause(50);
}
process.stdout.write(`${count.calls} calls, ${count.failures} failures, ${count.tokens} different tokens\n`);
