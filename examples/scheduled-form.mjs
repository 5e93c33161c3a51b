// scheduled-form: stands for every scheduler that has a form with four boxes (token URL, client id, client secret, scope) and one for the
// address to call, and nothing else: no box for a resource, for a header, or for anything of ours. The filled-in form comes as a JSON file.
import { readFileSync } from 'node:fs';

const form = JSON.parse(readFileSync(process.argv[2] ?? '/dev/stdin', 'utf8'));
const boxes = ['token_url', 'client_id', 'client_secret', 'scope', 'call'];
const unknown = Object.keys(form).filter((name) => !boxes.includes(name));
if (unknown.length > 0) throw new Error(`This form has no box for ${unknown.join(', ')}.`);

const fields = new URLSearchParams({ grant_type: 'client_credentials', client_id: form.client_id, client_secret: form.client_secret });
if (form.scope) fields.set('scope', form.scope);
const asked = await fetch(form.token_url, { method: 'POST', body: fields, signal: AbortSignal.timeout(15_000) });
const token = await asked.json();
if (!asked.ok) {
  process.stdout.write(`no token: ${token.error}: ${token.error_description}\n`);
  process.exit(1);
}
const answer = await fetch(form.call, { headers: { authorization: `${token.token_type} ${token.access_token}` }, signal: AbortSignal.timeout(15_000) });
process.stdout.write(`${answer.status} ${(await answer.text()).slice(0, 300)}\n`);
process.exit(answer.ok ? 0 : 1);
