import { readFileSync } from 'node:fs';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { playConsent, registerAtStandin } from '../src/standins/visitor.ts';
import { newFolder, PASSWORD, removeFolder, rk, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { commandsIn, runLine } from './support/followed.ts';
import { type StandinUnderTest, startUnderTest } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** docs/TUTORIAL.md, followed to the letter; the ports are those of the test, and the browser's part is played. */
const lines = commandsIn(readFileSync(new URL('../docs/TUTORIAL.md', import.meta.url), 'utf8'));
/** What stays running in a terminal, or is asked for there: started by the test itself. */
const BY_THE_TEST = [
  'npm run build',
  'alias rk=',
  "RUSTY_KETTLE_PRIVATE_HOSTS='*.localhost, 127.0.0.1' rk serve",
  'rk operator first',
  'rk sign-in',
  'rk standin',
];
let [service, standin, home] = [] as unknown as [ServiceUnderTest, StandinUnderTest, string];
beforeAll(async () => {
  standin = await startUnderTest('eelgrass', 3600);
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

test('from nothing to a token of a tool, by the commands of the tutorial alone', async () => {
  expect(lines.filter((line) => BY_THE_TEST.some((one) => line.startsWith(one)))).toHaveLength(BY_THE_TEST.length);
  const known = { CLIENT_ID: '', CALLER_ID: '', KEY: '' };
  let secret = '';
  const place = (word: string) =>
    word
      .replace('definitions/', new URL('../definitions/', import.meta.url).pathname)
      .replace(/^7501$/, String(standin.port))
      .replace(/\b(CLIENT_ID|CALLER_ID|KEY)\b/, (name) => known[name as keyof typeof known] || name);
  const put = (line: string) => line.replace(/=(CALLER_ID|KEY)\b/g, (_, name: keyof typeof known) => `=${known[name]}`);
  for (const line of lines.filter((one) => !BY_THE_TEST.some((start) => one.startsWith(start)))) {
    if (line === 'rk connection open sailings') {
      // The command waits for the browser: here the link is opened and played.
      const opened = await rk(['connection', 'open', 'sailings', '--no-wait', '--output', 'json'], { home });
      await playConsent(JSON.parse(opened.out).start_url);
      continue;
    }
    const done = await runLine(put(line), { home, place, ...(line.startsWith('rk client secret add') ? { input: secret } : {}) });
    expect([line, done.code], done.err).toEqual([line, 0]);
    if (line.startsWith('rk client add')) {
      const redirectUri = /Redirect URI\s+(\S+)/.exec(done.out)?.[1] ?? '';
      ({ id: known.CLIENT_ID, secret } = await registerAtStandin(standin.origin, 'Board', redirectUri));
    }
    if (line.startsWith('rk client check')) expect(done.out).toContain('Ready');
    if (line.startsWith('rk call')) expect(done.out).toContain('sailings');
    if (line.startsWith('rk caller add')) {
      known.CALLER_ID = /rkc_[\w-]+/.exec(done.out)?.[0] ?? '';
      known.KEY = /rkk_[\w-]+/.exec(done.out)?.[0] ?? '';
    }
    if (line.includes(' rk token ')) expect(done.out.trim().length).toBeGreaterThan(20);
  }
});
