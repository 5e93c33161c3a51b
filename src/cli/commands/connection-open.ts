import { WAYS } from '../../api/choices.ts';
import type { ApiClient } from '../../api/client.ts';
import type { ConsentOutcome, OpenedConsent } from '../../api/connections.ts';
import type { BodyOf } from '../../api/operations.ts';
import { untilFinished } from '../consent-waiting.ts';
import type { Listener } from '../loopback.ts';
import { oneOf, pairs } from '../options.ts';
import { agreed, task, verb } from '../row.ts';
import { one } from '../show.ts';
import { shownOutcome } from '../views/consent.ts';

const tell = (text: string): void => void process.stderr.write(`${text}\n`);

/** `rk connection open`: every way in which a consent comes back, without a browser on this machine where none is needed. */
export const openCommand = () =>
  task(
    verb('open', 'start a consent: print where to go and wait for the outcome; also to reconnect', 'rk connection open sailings')
      .argument('<name>')
      .addOption(oneOf('--way <way>', 'how the consent comes back (loopback: rk listens on this machine); default: the usual way of the client', WAYS))
      .option('--client <name>', 'another client of the same provider: the connection switches to it once the new tokens are verified')
      .option('--placeholder <name=value...>', 'with another client: values that its definition requires at the connection', pairs)
      .option('--prepare', 'keep the new tokens on standby until `rk connection switch`')
      .option('--end-oldest', 'if the provider limits the number of refresh tokens: continue although the oldest one expires')
      .option('--no-wait', 'print where to go, and exit'),
    async ({ args: [name], options, call }) => {
      const params = { connection: name };
      const { ways, provider, client } = await call('showConnection', { params });
      const way = options.way ?? ways[0];
      const listener =
        way === 'loopback' && options.wait ? await (await import('../loopback.ts')).listen(call, { provider, client: options.client ?? client }) : null;
      try {
        const opened = await openOrAsk(call, name, {
          way: options.way,
          client: options.client,
          placeholders: options.placeholder,
          prepare: options.prepare,
          end_oldest: options.endOldest,
          port: listener?.port ?? undefined,
        });
        if (opened === null) return undefined;
        if (!options.wait) {
          // A device's code stands in the consent: without it there is nothing to enter at the provider.
          const { device } = opened.way === 'device' ? await call('showConsent', { params: { consent: opened.id } }) : { device: null };
          return one(device ? { ...opened, device } : opened, whereToGo(opened, device));
        }
        for (const warning of opened.warnings) tell(`Note: ${warning}`);
        if (!opened.by_itself) tell(opened.ready.says);
        await bringBack(call, opened, listener);
        return shownOutcome(await untilFinished(() => call('showConsent', { params: { consent: opened.id } })));
      } finally {
        listener?.close();
      }
    },
  );

/** Opens it; where another connection would end, asks first. Null: it was not wanted. */
async function openOrAsk(call: ApiClient, name: string, body: BodyOf<'openConnection'>): Promise<OpenedConsent | null> {
  const params = { connection: name };
  try {
    return await call('openConnection', { params, body });
  } catch (error) {
    const { problem } = error as { problem?: { code: string; detail?: string } };
    if (problem?.code !== 'WOULD_END' || !process.stdin.isTTY) throw error;
    if (!(await agreed({}, `${problem.detail ?? ''} Continue?`))) return null;
    return call('openConnection', { params, body: { ...body, end_oldest: true } });
  }
}

const whereToGo = (opened: OpenedConsent, device: ConsentOutcome['device']): [string, string | null][] => [
  [opened.by_itself ? 'Outcome' : device ? 'Open on any device' : 'Open in a browser', device ? device.page : (opened.authorization_url ?? opened.start_url)],
  ['Code', device?.user_code ?? null],
  ['Or open', device?.page_with_code ?? null],
  ['Way', opened.way.replaceAll('_', ' ')],
  ['Ready', opened.ready.says],
  ['Note', opened.warnings.join('\n')],
  ['Expires', opened.expires_at],
];

/** What a person has to do, and what comes back by their hands or by a listener of ours. */
async function bringBack(call: ApiClient, opened: OpenedConsent, listener: Listener | null): Promise<void> {
  const params = { consent: opened.id };
  const asked = await call('showConsent', { params });
  const { secret } = await import('../ask.ts');
  switch (opened.way) {
    case 'by_itself':
      return tell('The client requests its own token\u2026');
    case 'printed':
      if (!asked.wants_code) return;
      tell(
        `Now print the code: \u201c${asked.wants_code.called}\u201d${asked.wants_code.page ? ` at ${asked.wants_code.page}` : ''}. It expires after ${asked.wants_code.seconds} seconds.`,
      );
      await call('giveCode', { params, body: { code: await secret('The code') } });
      return;
    case 'device':
      if (asked.device)
        tell(
          `On any device, open ${asked.device.page} and enter the code ${asked.device.user_code}\n(or open ${asked.device.page_with_code ?? asked.device.page}). It expires at ${asked.expires_at}. Waiting\u2026`,
        );
      return;
    case 'loopback':
      tell(`Open in a browser on this machine: ${opened.authorization_url}\nWaiting at ${opened.redirect_uri} for the answer\u2026`);
      await call('answerConsent', { params, body: { pasted: listener ? await listener.came() : '' } });
      return;
    case 'pasted':
      tell(
        `Open in a browser anywhere: ${opened.authorization_url}\nAt the end the browser shows an address that begins with ${opened.redirect_uri}; the page may not load. Paste the whole address here.`,
      );
      await call('answerConsent', { params, body: { pasted: await secret('The address') } });
      return;
    case 'redirect':
      return tell(`Open in a browser: ${opened.start_url}\nWaiting for the consent\u2026`);
    default:
      opened.way satisfies never;
  }
}
