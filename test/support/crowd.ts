import { Pool } from 'undici';

/** Many token requests at once, from a process of its own: `crowd.ts COUNT BODY URL…`. Prints how they were answered, as JSON. */
const [countText = '0', body = '', ...urls] = process.argv.slice(2);
const count = Number(countText);
const pools = urls.map((url) => new Pool(url, { connections: Math.ceil(count / urls.length), pipelining: 1 }));
const poolOf = (at: number): Pool => pools[at % pools.length] as Pool;
// The sockets are there before the crowd comes: what is measured is the crowd, not the handshakes.
for (let from = 0; from < count; from += 500)
  await Promise.all(
    Array.from({ length: Math.min(500, count - from) }, async (_one, n) => (await poolOf(from + n).request({ method: 'GET', path: '/healthz' })).body.dump()),
  );
const answers = await Promise.all(
  Array.from({ length: count }, async (_one, at) => {
    const answer = await poolOf(at).request({ method: 'POST', path: '/oauth/token', headers: { 'content-type': 'application/x-www-form-urlencoded' }, body });
    const { access_token, error_description } = (await answer.body.json()) as { access_token?: string; error_description?: string };
    return { how: `${answer.statusCode} ${error_description ?? ''}`.trim(), token: access_token ?? '' };
  }),
);
const how: Record<string, number> = {};
for (const one of answers) how[one.how] = (how[one.how] ?? 0) + 1;
process.stdout.write(JSON.stringify({ how, tokens: new Set(answers.map((one) => one.token)).size }));
process.exit(0);
