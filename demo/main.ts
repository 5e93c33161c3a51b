import { spawnSync } from 'node:child_process';
import { parseArgs } from 'node:util';
import { startMailbox } from '../testing/mailbox.ts';
import { MAIL_PORT, seedChannel } from './channel.ts';
import { demoFolder, emptyDemoFolder, ensureOperator, OTHERS, openHarbour, seed, seedBerthline } from './harbour.ts';
import { collectEverywhere } from './jobs.ts';
import { PORTAL_PORT, startPortal } from './people.ts';
import { ROOT, start } from './processes.ts';
import { approveAtOakum, seedOthers } from './providers.ts';
import { DEMO_OPERATOR, DEMO_PASSWORD, type Harbour } from './stage.ts';
import { feelLimit, postTwice, startAnnouncer } from './tools.ts';
import { seedTrust } from './trust.ts';

const PORT = 7420;
const STANDIN_PORT = 7421;
const BERTHLINE_PORT = 7422;
const OTHER_PORTS = Object.fromEntries(OTHERS.map((name, at) => [name, BERTHLINE_PORT + 1 + at]));
const LIFE_SECONDS = 60;
const say = (text = '') => process.stdout.write(`${text}\n`);

const OPTIONS = { fresh: { type: 'boolean' }, tour: { type: 'boolean' }, approve: { type: 'boolean' }, help: { type: 'boolean', short: 'h' } } as const;
const HELP = `npm run demo [-- OPTION]
  (none)      start nine simulated providers, the service with its console, and four integrations
  --fresh     reset: delete the data of an earlier demo
  --tour      run the whole scenario automatically in a headless browser
  --approve   approve the pending client at Oakum, while the demo runs in another terminal`;
const values = readOptions();
function readOptions() {
  try {
    return parseArgs({ options: OPTIONS }).values;
  } catch (error) {
    process.stderr.write(`${error instanceof Error ? error.message : 'The options cannot be read.'}\n${HELP}\n`);
    process.exit(2);
  }
}
if (values.help) {
  say(HELP);
  process.exit(0);
}
if (values.tour) {
  const prepared = spawnSync(process.execPath, ['scripts/prepare.mjs', 'chromium'], { cwd: ROOT, stdio: 'inherit' }); // installed only for those who take the tour
  if (prepared.status !== 0) process.exit(1);
  const { tour } = await import('./tour.ts');
  const everywhere = async (harbour: Harbour): Promise<void> => {
    const call = await ensureOperator(harbour);
    await seedBerthline(harbour, call, ['berths']);
    await seedOthers(harbour, call);
    say('\nCollect every list to its end, at all nine providers');
    for (const line of await collectEverywhere(call)) say(`    ${line}`);
  };
  process.exit((await tour(say, { others: true, after: everywhere })) ? 0 : 1);
}

if (values.approve) {
  const [approved] = await approveAtOakum(OTHER_PORTS.oakum ?? 0);
  say(approved ? `Oakum's staff has approved ${approved}; within 10 s the service detects it automatically.` : 'Nothing waits for approval at Oakum.');
  process.exit(0);
}

/** `npm run demo`: nine stand-in providers, the service with its console, Saltmarsh Ferries, and four integrations at work. */
const folder = demoFolder();
try {
  if (values.fresh) emptyDemoFolder(folder);
  const startedAt = Date.now();
  const mailbox = await startMailbox({ port: MAIL_PORT, onMail: ({ to, subject }) => say(`mail             ${to}: ${subject}`) });
  const harbour = await openHarbour({
    folder,
    port: PORT,
    standinPort: STANDIN_PORT,
    berthlinePort: BERTHLINE_PORT,
    otherPorts: OTHER_PORTS,
    lifeSeconds: LIFE_SECONDS,
    environment: { RUSTY_KETTLE_SMTP_URL: mailbox.url, RUSTY_KETTLE_MAIL_FROM: 'Rusty Kettle <kettle@saltmarsh.example>' },
  });
  const call = await ensureOperator(harbour);
  const settings = await seed(harbour, call).catch(async (error: unknown) => {
    await harbour.stop();
    throw error;
  });
  for (const line of await postTwice(harbour, call)) say(`nightly-ledger   ${line}`);
  say(`nightly-ledger   ${await feelLimit(harbour, call)}`);
  const announcer = await startAnnouncer(harbour, call, (line) => say(`deck-announcer   ${line}`));
  await seedChannel(call);
  await seedTrust(harbour, call);
  const portal = await startPortal(harbour, call, (line) => say(`crew-portal      ${line}`));
  let latest = '';
  const board = start(`${ROOT}examples/timetable-board.mjs`, [], { ...settings, EVERY_MS: '5000' }, (line) => {
    if (line.startsWith('FAILED') || latest === '') say(`timetable-board  ${line}`);
    latest = line;
  });
  say(`\nRusty Kettle is ready after ${((Date.now() - startedAt) / 1000).toFixed(1)} s.\n`);
  say(`Console      ${harbour.url}`);
  say(`Sign in      name ${DEMO_OPERATOR}, password ${DEMO_PASSWORD}`);
  say(`Providers    stand-ins: Eelgrass at ${harbour.standinUrl}, Berthline at ${harbour.berthlineUrl}`);
  say(`             ${OTHERS.map((name) => `${name[0]?.toUpperCase()}${name.slice(1)} ${OTHER_PORTS[name]}`).join(', ')}`);
  say('             Oakum has not approved its client yet. To decide as its staff: npm run demo -- --approve');
  say(`             (tokens live ${LIFE_SECONDS} s, so that you see renewals)`);
  say('Integrations timetable-board fetches tokens (it knows a token URL, an id, a secret), nightly-ledger sends its calls to the relay,');
  say('             deck-announcer signed in through sign-in for tools (it knows only the code flow); two of them call every 5 s');
  say(`People       the crew portal, http://127.0.0.1:${PORTAL_PORT}: choose a member, and connect the certificate registry on your phone or here`);
  say('Notices      come by mail to ops@saltmarsh.example: the subject of each mail is shown here');
  say(`Jobs         berth-report collects all bookings every two minutes; its file is ${folder}/results/berth-report.csv`);
  say('Colleagues   oda is limited to team=deck (the same password), ivar has not accepted the invitation yet');
  say(`Backups      each day, to ${folder}/service/backups; the key for a restore is ${folder}/restore.key\n`);
  say('Commands to try, in another terminal:');
  say(`  npm run -s rk -- sign-in --url ${harbour.url} --name ${DEMO_OPERATOR}`);
  say('  npm run -s rk -- status');
  say('  npm run -s rk -- call sailings --saved rows-of-a-table --fill table=boats');
  say('  npm run -s rk -- caller setup timetable-board --kind token_url');
  say('  npm run -s rk -- call berths GET /bookings --all-pages --to bookings.csv');
  say('  npm run -s rk -- job runs berth-report');
  say('  npm run -s rk -- person list crew-id');
  say('  npm run -s rk -- notice list');
  say('  npm run -s rk -- bundle export set-up');
  say('  npm run -s rk -- privilege show\n');
  say('Ctrl-C stops all of it and keeps the data; `npm run demo -- --fresh` begins again.');
  let stopping = false;
  const end = async () => {
    if (stopping) return;
    stopping = true;
    say('\nStopping\u2026');
    await Promise.all([board.stop(), announcer.stop(), portal.stop()]);
    say(`deck-announcer   ${announcer.output().trim().split('\n').at(-1) ?? ''}`);
    say(`timetable-board  ${board.output().trim().split('\n').at(-1) ?? ''}`);
    await harbour.stop();
    await mailbox.stop();
    say('Stopped. The data is kept.');
    process.exit(0);
  };
  for (const signal of ['SIGINT', 'SIGTERM', 'SIGHUP'] as const) process.on(signal, () => void end());
} catch (error) {
  const why = error instanceof Error ? error.message : String(error);
  process.stderr.write(`The demo did not start. ${why}\nTo start over without its earlier data: npm run demo -- --fresh\n`);
  process.exit(1);
}
