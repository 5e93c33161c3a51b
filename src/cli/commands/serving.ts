import { readFileSync } from 'node:fs';
import type { Command } from 'commander';
import { leave } from '../exit.ts';

/** `rk serve` and `rk standin`: the two commands that stay, and that load service and stand-ins. */
export function serving(rk: Command): void {
  rk.command('serve')
    .description('run the service; with nothing configured, with a private MariaDB in its data folder (docs/SETTINGS.md)')
    .action(async () => {
      const [{ readSettings }, { startService }] = await Promise.all([import('../../service/settings.ts'), import('../../service/main.ts')]);
      const running = await startService(readSettings(process.env)).catch(async (error) => {
        await leave(error);
        process.exit(); // at once: nothing of a half-started service may keep the process alive
      });
      process.stdout.write(`Rusty Kettle is at ${running.publicUrl}\n`);
      if (running.firstOperatorFile)
        process.stdout.write(
          `There is no operator yet. Make the first one with \`rk operator first\`, or by the one-time link in ${running.firstOperatorFile}\n`,
        );
      untilSignal(running.stop);
    });
  rk.command('standin')
    .description('run a simulated provider, made from any provider definition, on loopback: a rehearsal')
    .argument('<file>', 'a provider definition')
    .option('--port <port>', 'where it answers; 0: a free port', '0')
    .option('--state <file>', 'keep what is registered and granted in this file')
    .option('--life <seconds>', 'life of access tokens', '3600')
    .action(async (file: string, options: { port: string; state?: string; life: string }) => {
      const { startStandin } = await import('../../standins/main.ts');
      const running = await startStandin({
        definitionText: readFileSync(file, 'utf8'),
        port: Number(options.port),
        stateFile: options.state,
        accessSeconds: Number(options.life),
      });
      process.stdout.write(
        [
          `The stand-in answers at http://127.0.0.1:${running.port}; its definition: http://127.0.0.1:${running.port}/definition.yaml`,
          `Its developer console: ${running.consolePage}`,
          `To rehearse with it before the provider has approved anything: rk client add ${running.name} rehearsal --rehearsal ${running.port}`,
          `(the service must be allowed to call this machine: RUSTY_KETTLE_PRIVATE_HOSTS='*.localhost, 127.0.0.1')`,
          '',
        ].join('\n'),
      );
      untilSignal(running.stop);
    });
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
