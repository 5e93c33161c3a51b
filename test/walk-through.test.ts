import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { type RunningStandin, startStandin } from '../src/standins/main.ts';
import { playConsent, registerAtStandin } from '../src/standins/visitor.ts';
import { newFolder, PASSWORD, removeFolder, rk, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { commandsIn, runLine } from './support/followed.ts';
import { newDatabase } from './support/new-database.ts';

/** docs/how-to/connect-any-provider.md, followed to the letter; only the provider's host is moved to loopback. */
const page = readFileSync(new URL('../docs/how-to/connect-any-provider.md', import.meta.url), 'utf8');
let [service, standin, home] = [] as unknown as [ServiceUnderTest, RunningStandin, string];
beforeAll(async () => {
  standin = await startStandin({ definitionText: readFileSync(new URL('support/saltwire.yaml', import.meta.url), 'utf8'), port: 0, accessSeconds: 3600 });
  service = await startService({ databaseUrl: await newDatabase() });
  home = newFolder();
  await signIn(service);
  expect((await rk(['sign-in', '--url', service.url, '--name', 'marit'], { home, input: PASSWORD })).code).toBe(0);
});
afterAll(async () => {
  await service.stop();
  await standin.stop();
  removeFolder(service.folder);
  removeFolder(home);
});

/** The page's own words for the hosts, moved to the stand-in. */
const moved = (text: string): string => text.replace(/(https:\/\/)?([a-z]+)\.saltwire\.example/g, `http://$2.saltwire.localhost:${standin.port}`);

/** Files lie in `home`. */
const run = (line: string) => runLine(moved(line), { home, place: (word) => (/^[a-z-]+\.yaml$/.test(word) ? join(home, word) : word) });

test('eight steps, two of them at the provider: from a bare host to an answer of the API; then the short form', async () => {
  const [walk = '', short = ''] = page.split('## Without metadata');
  const steps = [...walk.matchAll(/^## \d+\. (.+)$/gm)].map((match) => match[1] ?? '');
  const commands = commandsIn(walk);
  expect([steps.length, steps.filter((step) => step.startsWith('At the provider')).length, commands.length]).toEqual([8, 2, 7]);
  const [draft = '', add = '', client = '', notepad = '', connection = '', open = '', call = ''] = commands;

  const drafted = await run(draft);
  expect([drafted.code, drafted.err]).toEqual([0, '']);
  for (const said of [
    '/.well-known/openid-configuration',
    'It answers as a token endpoint does',
    'Ready      Nothing is missing.',
    'you: the call that verifies it',
  ])
    expect(drafted.out).toContain(said);
  expect((await run(add)).code).toBe(0);
  const started = await run(client);
  const redirectUri = /Redirect URI\s+(\S+)/.exec(started.out)?.[1] ?? '';
  const there = await registerAtStandin(`http://id.saltwire.localhost:${standin.port}`, 'Harbour weather', redirectUri);
  writeFileSync(join(home, 'notes.txt'), `Saltwire, registered today\nClient id: ${there.id}\nClient secret: "${there.secret}"\nRedirect URI ${redirectUri}\n`);
  const sorted = await run(notepad);
  expect([sorted.code, sorted.out.includes(there.secret), (sorted.out.match(/saved/g) ?? []).length]).toEqual([0, false, 3]); // the redirect URI is compared too
  expect((await run(connection)).code).toBe(0);
  // The person opens the printed link in a browser while the command waits.
  const opened = await rk(['connection', 'open', 'harbour-weather', '--no-wait', '--output', 'json'], { home });
  await playConsent(JSON.parse(opened.out).start_url);
  expect(open).toBe('rk connection open harbour-weather');
  const shown = await rk(['connection', 'show', 'harbour-weather'], { home });
  expect(shown.out).toContain('working');
  const answer = await run(call);
  expect([answer.code, answer.out]).toEqual([0, expect.stringContaining('"provider": "Saltwire"')]);

  const byHand = commandsIn(short);
  const results = [];
  for (const line of byHand) results.push(await run(line));
  expect(results.map((one) => one.code)).toEqual([0, 0]);
  expect(results[0]?.out).toMatch(/Scopes: Commas and the like were taken as separators/);
});
