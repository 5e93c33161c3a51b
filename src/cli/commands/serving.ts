import { readFileSync } from 'node:fs';
import { setTimeout as sleep } from 'node:timers/promises';
import type { ServingProcess } from '../../service/processes/index.ts';
import type { Settings } from '../../service/settings.ts';
import type { NotStarted } from '../../service/supervise.ts';
import { leave } from '../exit.ts';
import { whole } from '../options.ts';
import { task, verb } from '../row.ts';

const STARTED_WITHIN_MS = 2_000;

/** At once: nothing of a half-started service may keep the process active. */
const endAtOnce = async (error: unknown): Promise<never> => {
  if (error instanceof Error && error.name === 'NotStarted') process.exit((error as NotStarted).code);
  await leave(error);
  process.exit();
};
/** This process, or several that serve the port. */
const start = async (settings: Settings) =>
  settings.processes > 1
    ? (await import('../../service/supervise.ts')).superviseProcesses(settings)
    : (await import('../../service/main.ts')).startService(settings);

/** One of several; the supervisor prints where they are, and stops them. */
async function serveAsOne(one: ServingProcess): Promise<undefined> {
  const [{ readSettings }, { startService }] = await Promise.all([import('../../service/settings.ts'), import('../../service/main.ts')]);
  const begin = async () => startService({ ...readSettings({ ...process.env, ...one.environment }), isFirstProcess: one.isFirst });
  const running = await begin().catch(endAtOnce);
  const { publicUrl, firstOperatorFile, privateDatabase } = running;
  one.ready({ publicUrl, firstOperatorFile, privateDatabase }, running);
  return undefined;
}

/** `rk serve` and `rk standin`: the two commands that stay, and that load service and stand-ins. */
export const serve = () =>
  task(
    verb('serve', 'run the service; without settings, with a private MariaDB in its data folder (docs/SETTINGS.md)', 'rk serve'),
    async () => {
      const [{ readSettings }, { servingProcess }] = await Promise.all([import('../../service/settings.ts'), import('../../service/processes/index.ts')]);
      const one = await servingProcess().catch(endAtOnce);
      if (one) return serveAsOne(one);
      const starting = start(readSettings(process.env));
      untilSignal(async () => (await Promise.race([starting, soon()])).stop());
      const running = await starting.catch(endAtOnce);
      process.stdout.write(`Rusty Kettle is at ${running.publicUrl}\n`);
      if (running.firstOperatorFile)
        process.stdout.write(
          `No operator exists yet. Create the first one with \`rk operator first\`, or with the one-time link in ${running.firstOperatorFile}\n`,
        );
      return undefined;
    },
    { signedIn: false },
  );

export const standin = () =>
  task(
    verb('standin', 'run a simulated provider, made from any provider definition, on loopback: a rehearsal', 'rk standin eelgrass.yaml --port 7501')
      .argument('<file>', 'a provider definition')
      .option('--port <port>', 'the port; 0: any free one', whole('--port'), 0)
      .option('--state <file>', 'keep registrations and grants in this file')
      .option('--token-lifetime <seconds>', 'lifetime of access tokens', whole('--token-lifetime'), 3600),
    async ({ args: [file], options }) => {
      const { startStandin } = await import('../../standins/main.ts');
      const running = await startStandin({
        definitionText: readFileSync(file, 'utf8'),
        port: options.port,
        stateFile: options.state,
        accessSeconds: options.tokenLifetime,
      });
      process.stdout.write(
        [
          `The stand-in answers at http://127.0.0.1:${running.port}; its definition: http://127.0.0.1:${running.port}/definition.yaml`,
          `Its developer console: ${running.consolePage}`,
          `To rehearse before the provider approves anything: rk client add ${running.name} rehearsal --rehearsal ${running.port}`,
          `(the service must be allowed to call this machine: RUSTY_KETTLE_PRIVATE_HOSTS='*.localhost, 127.0.0.1')`,
          '',
        ].join('\n'),
      );
      untilSignal(running.stop);
      return undefined;
    },
    { signedIn: false },
  );

/** One that starts may serve already: it is stopped like one that does; whatever takes longer ends at once. */
async function soon(): Promise<never> {
  await sleep(STARTED_WITHIN_MS);
  throw new Error('stopped while it started');
}

function untilSignal(stop: () => Promise<void>): void {
  let asked = 0;
  const end = () => {
    asked += 1;
    if (asked > 1) return; // a second Ctrl-C does not cut short what is being saved
    void stop().then(
      () => process.exit(0),
      () => process.exit(1),
    );
  };
  for (const signal of ['SIGINT', 'SIGTERM'] as const) process.on(signal, end);
}
