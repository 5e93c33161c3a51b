// crew-portal: an application whose users connect their own accounts. It keeps no token: it knows a caller id and key, the name of a
// shared connection, and its own key for each member. The three calls to Rusty Kettle are invite(), redeem() and follow().
import { randomBytes } from 'node:crypto';
import { createServer } from 'node:http';

const { SERVICE_URL, CONNECTION, CALLER_ID, CALLER_KEY, PORT = '0', API_PATH = 'certificates' } = process.env;
if (!SERVICE_URL || !CONNECTION || !CALLER_ID || !CALLER_KEY) {
  process.stderr.write('Set SERVICE_URL, CONNECTION, CALLER_ID and CALLER_KEY.\n');
  process.exit(2);
}
const MEMBERS = new Map([
  ['member-17', 'Ingrid N.'],
  ['member-23', 'Tom Reed'],
]);
const linked = new Map(); // member → { account, link }
const started = new Map(); // state → member: whoever comes back came from here
const authorization = `Basic ${Buffer.from(`${CALLER_ID}:${CALLER_KEY}`).toString('base64')}`;

async function api(method, path, body) {
  const response = await fetch(`${SERVICE_URL}/api/v1/own/${path}`, {
    method,
    headers: { authorization, ...(body ? { 'content-type': 'application/json' } : {}) },
    body: body && JSON.stringify(body),
    signal: AbortSignal.timeout(15_000),
  });
  const answer = await response.json();
  if (!response.ok) throw new Error(`${answer.title} ${answer.detail ?? ''}`);
  return answer;
}

/** A link for this member; the member's browser goes there. */
async function invite(member, returnTo) {
  const state = randomBytes(16).toString('base64url');
  started.set(state, member);
  const purpose = 'Show your valid certificates on your page, so that nobody has to ask you for copies.';
  const { url } = await api('POST', `connections/${CONNECTION}/invitations`, {
    person: member,
    name: MEMBERS.get(member),
    purpose,
    return_to: returnTo,
    state,
  });
  return url;
}

/** What came of it, for the one-time code with which the member came back. */
async function redeem(code, state) {
  const outcome = await api('POST', 'results', { code });
  if (started.get(state) !== outcome.person) throw new Error('this browser did not start here');
  started.delete(state);
  if (outcome.result === 'connected' || outcome.result === 'partly') linked.set(outcome.person, { account: outcome.account, link: outcome.own_link });
  return outcome;
}

/** Members who disconnect, or whose registry withdraws: their page shows it within seconds. */
async function follow() {
  for (let cursor = '0'; ; ) {
    try {
      const feed = await api('GET', `events?after=${cursor}`);
      cursor = feed.cursor;
      for (const { type, subject, data } of feed.events) {
        if (['person.disconnected', 'person.withdrawn', 'person.action_needed'].includes(type)) linked.delete(subject);
        if (type === 'person.consented' || type === 'person.scopes_changed') linked.set(subject, { ...linked.get(subject), account: data.account });
        process.stdout.write(`${type} ${subject}\n`);
      }
    } catch (error) {
      process.stdout.write(`FAILED: ${error.message}\n`);
    }
    await new Promise((resolve) => setTimeout(resolve, 1_000));
  }
}

/** A call as this member: the relay adds the member's token. */
async function certificates(member) {
  const response = await fetch(`${SERVICE_URL}/relay/${CONNECTION}/people/${encodeURIComponent(member)}/${API_PATH}`, {
    headers: { authorization },
    signal: AbortSignal.timeout(15_000),
  });
  return response.ok ? ((await response.json()).certificates ?? []) : [];
}

const escaped = (text) => String(text).replace(/[&<>"']/g, (c) => `&#${c.charCodeAt(0)};`);
const page = (body) =>
  `<!doctype html><html lang="en"><meta name="viewport" content="width=device-width"><title>Crew portal</title><style>body{font:17px/1.5 system-ui;margin:2rem auto;max-width:34rem;padding:0 1rem}button{font:inherit;padding:.4rem 1rem}</style>${body}</html>`;

async function memberPage(member) {
  const one = linked.get(member);
  const name = `<h1>${escaped(MEMBERS.get(member))}</h1>`;
  if (!one)
    return page(
      `${name}<p>Certificate registry: not connected.</p><form method="post" action="/members/${member}/connect"><button>Connect your certificate registry</button></form>`,
    );
  const rows = (await certificates(member)).map((each) => `<li>${escaped(each.title ?? each.name ?? each.id)}</li>`).join('');
  return page(
    `${name}<p id="registry">Registry id <strong>${escaped(one.account?.id ?? 'unknown')}</strong> (${escaped(one.account?.label ?? '')}), verified.</p><ul>${rows}</ul>${one.link ? `<p><a href="${escaped(one.link)}">What is connected, and how to disconnect</a></p>` : ''}`,
  );
}

const server = createServer(async (request, response) => {
  const html = (status, text) => response.writeHead(status, { 'content-type': 'text/html; charset=utf-8' }).end(text);
  const to = (location) => response.writeHead(303, { location }).end();
  try {
    const url = new URL(request.url, `http://127.0.0.1:${server.address().port}`);
    const member = /^\/members\/([\w-]+)/.exec(url.pathname)?.[1];
    if (url.pathname === '/')
      return html(200, page(`<h1>Crew portal</h1><ul>${[...MEMBERS].map(([key, name]) => `<li><a href="/members/${key}">${name}</a></li>`).join('')}</ul>`));
    if (url.pathname === '/done') {
      const outcome = await redeem(url.searchParams.get('code') ?? '', url.searchParams.get('state') ?? '');
      return to(`/members/${outcome.person}`);
    }
    if (!member || !MEMBERS.has(member)) return html(404, page('<h1>Not found</h1>'));
    if (request.method === 'POST') return to(await invite(member, `${url.origin}/done`));
    return html(200, await memberPage(member));
  } catch (error) {
    return html(502, page(`<h1>It did not work</h1><p>${escaped(error.message)}</p>`));
  }
});
server.listen(Number(PORT), '127.0.0.1', () => process.stdout.write(`listening on http://127.0.0.1:${server.address().port}\n`));
void follow();
for (const signal of ['SIGINT', 'SIGTERM']) process.on(signal, () => process.exit(0));
