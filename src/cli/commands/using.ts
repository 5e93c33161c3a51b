import type { Command } from 'commander';
import { globals, serviceUrl, signedIn } from '../connect.ts';
import { EXIT, Outcome, UsageError } from '../exit.ts';
import { printJson, printList, printOne, relative, say, state } from '../print.ts';

/** `rk status`, `rk token`, `rk history`. */
export function using(rk: Command): void {
  rk.command('status')
    .description('what works, what struggles, what needs a person')
    .action(async (_options: object, command: Command) => {
      const all = globals(command);
      const now = await (await signedIn(all))('showStatus');
      if (all.output === 'json') return printJson(now);
      const { connections: c, renewals: r, handouts: h } = now;
      printOne(all, now, [
        ['Service', `${now.public_url}, version ${now.version}`],
        ['Held', now.installation.held ? `${now.installation.why}\nWhat to do: rk installation own` : null],
        [
          'Connections',
          `${c.total}: ${c.working} working, ${c.idle > 0 ? `${c.idle} idle, ` : ''}${c.struggling} struggling${c.at_risk > 0 ? ` (${c.at_risk} at risk)` : ''}, ${c.needs_person} need a person, ${c.other} other`,
        ],
        [
          'Renewals',
          `${r.last_hour} in the last hour, ${r.last_minute} in the last minute, ${r.failed_last_hour} failed; due now ${r.due_now}${r.oldest_due_at ? `, the oldest ${relative(r.oldest_due_at)}` : ''}`,
        ],
        ['Not saved yet', r.unsaved > 0 ? `${r.unsaved} answers wait in memory for the database, ${r.spilled} of them in sealed files too` : null],
        [
          'Left alone',
          now.endpoints
            .filter((one) => one.left_alone_until !== null)
            .map((one) => `${one.origin}: next try ${relative(one.left_alone_until)}`)
            .join('\n'),
        ],
        [
          'Approvals',
          now.approvals
            .map(
              (one) =>
                `${one.provider}/${one.client}: ${one.approval.replaceAll('_', ' ')}${one.on ? `, ${one.approval === 'given' ? 'on' : 'asked on'} ${one.on}` : ''}`,
            )
            .join('\n'),
        ],
        [
          'To decide',
          now.decisions
            .map(
              (one) =>
                `${one.connection}: ${one.why === 'other_account' ? `another account agreed${one.account ? `, ${one.account}` : ''}` : 'tokens that could not be proved'}, ${relative(one.since)}`,
            )
            .join('\n'),
        ],
        ['Revocations', now.revocations > 0 ? `${now.revocations} of which providers do not know yet; they are told again` : null],
        ['Handed over', `${h.last_hour} tokens and ${h.relayed_last_hour} relayed calls in the last hour, ${h.refused_last_hour} refused`],
        [
          'Replicas',
          now.replicas
            .filter((one) => one.alive)
            .map((one) => `${one.instance.slice(-12)}, start ${one.incarnation}, since ${relative(one.started_at)}`)
            .join('\n'),
        ],
      ]);
      if (now.attention.length === 0) return say(all, '\nNothing needs a person.');
      if (now.groups.some((group) => group.count > 1)) {
        say(all, '\nBy cause');
        const marks = new Map(await Promise.all(now.groups.map(async (one) => [one, await state(one.state)] as const)));
        await printList(
          all,
          now.groups,
          {
            COUNT: (one) => String(one.count),
            STATE: (one) => marks.get(one) ?? '',
            CAUSE: (one) => `${one.says}${one.evidence ? ` (${one.evidence})` : ''}`,
            'WHAT TO DO': (one) => one.remedy,
          },
          '',
        );
      }
      say(all, '');
      const states = new Map(await Promise.all(now.attention.map(async (one) => [one, await state(one.state)] as const)));
      await printList(
        all,
        now.attention,
        { CONNECTION: (one) => one.name, STATE: (one) => states.get(one) ?? '', WHY: (one) => one.cause ?? '', 'WHAT TO DO': (one) => one.remedy ?? '' },
        '',
      );
    });

  rk.command('token')
    .description('print an access token of a connection, as a caller: RUSTY_KETTLE_CALLER_ID and RUSTY_KETTLE_CALLER_KEY')
    .argument('<connection>')
    .option('--minimum-life <seconds>', 'the rest of life that it must have at least')
    .action(async (name: string, options: { minimumLife?: string }, command: Command) => {
      const all = globals(command);
      const { RUSTY_KETTLE_CALLER_ID: id, RUSTY_KETTLE_CALLER_KEY: key } = process.env;
      if (!id || !key) throw new UsageError('Set RUSTY_KETTLE_CALLER_ID and RUSTY_KETTLE_CALLER_KEY to a caller\u2019s id and key.');
      const url = serviceUrl(all);
      // Our own public URL names the resource, wherever we reach the service.
      const metadata = (await (
        await fetch(`${url}/.well-known/oauth-authorization-server`, { signal: AbortSignal.timeout(10_000) }).catch(() => null)
      )?.json()) as { issuer?: string } | undefined;
      if (!metadata?.issuer) throw new Outcome(EXIT.later, `The service does not answer at ${url}.`);
      const response = await fetch(`${url}/oauth/token`, {
        method: 'POST',
        body: new URLSearchParams({
          grant_type: 'client_credentials',
          client_id: id,
          client_secret: key,
          resource: `${metadata.issuer}/connections/${name}`,
          ...(options.minimumLife !== undefined && { minimum_life: options.minimumLife }),
        }),
        signal: AbortSignal.timeout(30_000),
      });
      const answer = (await response.json()) as { access_token?: string; error?: string; error_description?: string };
      if (!response.ok)
        throw new Outcome(
          response.status === 503 ? EXIT.later : response.status === 401 ? EXIT.signIn : answer.error === 'invalid_grant' ? EXIT.person : EXIT.failed,
          `${answer.error}: ${answer.error_description}`,
        );
      if (all.output === 'json') printJson(answer);
      else process.stdout.write(`${answer.access_token}\n`);
    });

  rk.command('history')
    .description('what happened, newest first')
    .option('--connection <name>')
    .option('--caller <name>')
    .option('--client <client>', 'PROVIDER/NAME')
    .option('--kind <word>', 'only this kind, such as consented or revoked')
    .option('--since <date>', 'only entries since this date (YYYY-MM-DD)')
    .option('--before <id>', 'only entries before the entry with this ID')
    .option('--renewals', 'include routine renewals')
    .option('--limit <n>', 'how many', '30')
    .action(async (options: HistoryOptions, command: Command) => {
      const all = globals(command);
      const since = options.since === undefined ? undefined : new Date(options.since);
      if (since && Number.isNaN(since.getTime())) throw new UsageError(`--since takes a date such as 2027-03-31, not ${options.since}.`);
      const subjects = (['connection', 'caller', 'client'] as const).flatMap((noun) => (options[noun] === undefined ? [] : [`${noun}:${options[noun]}`]));
      if (subjects.length > 1) throw new UsageError('Name one of --connection, --caller and --client.');
      const { items, more } = await (await signedIn(all))('listHistory', {
        query: {
          limit: options.limit,
          subject: subjects[0],
          kind: options.kind,
          since: since?.toISOString(),
          before: options.before,
          renewals: options.renewals ? 'true' : undefined,
        },
      });
      await printList(
        all,
        items,
        {
          WHEN: (one) => relative(one.at),
          WHO: (one) => one.actor,
          WHAT: (one) => one.subject,
          CLASS: (one) => String(one.data.class ?? ''),
          SAYS: (one) => one.says,
        },
        'Nothing has happened yet.',
      );
      if (more) say(all, `More entries: --before ${items.at(-1)?.id}`);
    });
}

interface HistoryOptions {
  connection?: string;
  caller?: string;
  client?: string;
  kind?: string;
  since?: string;
  before?: string;
  renewals?: boolean;
  limit: string;
}
