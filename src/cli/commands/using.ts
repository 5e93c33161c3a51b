import { serviceUrl } from '../connect.ts';
import { EXIT, Outcome, UsageError } from '../exit.ts';
import { whole } from '../options.ts';
import { operation, task, verb } from '../row.ts';
import { failedWith, line } from '../show.ts';
import { statusParts } from '../views/status.ts';

export const status = () =>
  operation(verb('status', 'show what works, what is degraded, and where action is needed', 'rk status'), {
    calls: 'showStatus',
    shows: (now) => {
      const shown = { data: now, parts: statusParts(now) };
      const { action_needed: count } = now.connections;
      return count === 0 ? shown : failedWith(shown, `${count === 1 ? '1 connection needs' : `${count} connections need`} action.`, EXIT.person);
    },
  });

const LOOK_UP_MS = 10_000;
const ISSUE_MS = 30_000;

export const token = () =>
  task(
    verb('token', 'print an access token of a connection, as a caller: RUSTY_KETTLE_CALLER_ID and RUSTY_KETTLE_CALLER_KEY', 'rk token sailings')
      .argument('<connection>')
      .option('--minimum-lifetime <seconds>', 'how long it must still be valid, at least', whole('--minimum-lifetime')),
    async ({ args: [name], options, rk }) => {
      const { RUSTY_KETTLE_CALLER_ID: id, RUSTY_KETTLE_CALLER_KEY: key } = process.env;
      if (!id || !key) throw new UsageError('Set RUSTY_KETTLE_CALLER_ID and RUSTY_KETTLE_CALLER_KEY to a caller\u2019s id and key.');
      const url = serviceUrl(rk);
      // Our own public URL names the resource, wherever we reach the service.
      const metadata = (await (
        await fetch(`${url}/.well-known/oauth-authorization-server`, { signal: AbortSignal.timeout(LOOK_UP_MS) }).catch(() => null)
      )?.json()) as { issuer?: string } | undefined;
      if (!metadata?.issuer) throw new Outcome(EXIT.later, `The service does not answer at ${url}.`);
      const response = await fetch(`${url}/oauth/token`, {
        method: 'POST',
        body: new URLSearchParams({
          grant_type: 'client_credentials',
          client_id: id,
          client_secret: key,
          resource: `${metadata.issuer}/connections/${name}`,
          ...(options.minimumLifetime !== undefined && { minimum_life: String(options.minimumLifetime) }),
        }),
        signal: AbortSignal.timeout(ISSUE_MS),
      });
      const answer = (await response.json()) as { access_token?: string; error?: string; error_description?: string };
      if (!response.ok) throw new Outcome(refusalCode(response.status, answer.error), `${answer.error}: ${answer.error_description}`);
      return line(answer.access_token ?? '', answer);
    },
    { signedIn: false },
  );

function refusalCode(status: number, error: string | undefined): number {
  if (status === 503) return EXIT.later;
  if (status === 401) return EXIT.signIn;
  return error === 'invalid_grant' ? EXIT.person : EXIT.failed;
}
