import type { Command } from 'commander';
import type { Connection } from '../../api/connections.ts';
import { globals, signedIn } from '../connect.ts';
import { EXIT, Outcome } from '../exit.ts';
import type { GlobalOptions } from '../options.ts';
import { lineMark, printList, printOne, relative, say } from '../print.ts';
import { diagnosisLines, showOutcome, untilFinished } from './consent-outcome.ts';

/** What lies beside a plain consent: tokens taken over, keys, the grant that waits, the abilities, and whether it will live. */
export function connectionGrants(noun: Command, show: (all: GlobalOptions, one: Connection, next?: string) => Promise<void>): void {
  noun
    .command('take-over')
    .description('take over a refresh token from an old script (asked for, or on standard input): stored first, then proved')
    .argument('<name>')
    .option('--scope <scopes...>', 'what it was granted, where known')
    .action(async (name: string, options: { scope?: string[] }, command: Command) => {
      const all = globals(command);
      const call = await signedIn(all);
      const { secret } = await import('../ask.ts');
      const body = { refresh_token: await secret('The refresh token'), ...(options.scope && { scopes: options.scope }) };
      const started = await call('takeOver', { params: { connection: name }, body });
      process.stderr.write('Stored. It is being proved by one renewal\u2026\n');
      await showOutcome(all, await untilFinished(() => call('showConsent', { params: { consent: started.id } })));
    });
  noun
    .command('give-key')
    .description('give the static key that an integration uses today (asked for, or on standard input)')
    .argument('<name>')
    .action(async (name: string, _options: object, command: Command) => {
      const all = globals(command);
      const call = await signedIn(all);
      const { secret } = await import('../ask.ts');
      const one = await call('giveKey', { params: { connection: name }, body: { key: await secret('The key') } });
      await show(all, one, one.standby ? `rk connection switch ${name}` : `rk connection open ${name} --prepare`);
    });
  noun
    .command('switch')
    .description('use the tokens or the key that wait beside those in use; a reference call is made before and after')
    .argument('<name>')
    .option('--path <path>', 'the reference call, GET; left out: the probe')
    .option('--yes', 'do not ask')
    .action(async (name: string, options: { path?: string; yes?: boolean }, command: Command) => {
      const all = globals(command);
      const call = await signedIn(all);
      const { standby, callers } = await call('showConnection', { params: { connection: name } });
      const { confirmed } = await import('../ask.ts');
      const used = callers.length > 0 ? ` ${callers.join(', ')} will get it from then on.` : '';
      if (!(await confirmed(`${standby?.says ?? 'Nothing waits.'} Use it for ${name}?${used}`, options.yes))) return;
      const decided = await call('decideStandby', { params: { connection: name }, body: { decision: 'use', ...(options.path && { path: options.path }) } });
      printOne(all, decided, [
        ['Now', decided.says],
        ['Before', decided.before ? `${decided.before.status ?? decided.before.reason} in ${Math.round(decided.before.took_ms)} ms` : null],
        ['After', decided.after ? `${decided.after.status ?? decided.after.reason} in ${Math.round(decided.after.took_ms)} ms` : null],
        ['Compared', decided.compared ? (decided.compared.same ? 'the answers are the same' : decided.compared.differences.join('\n')) : null],
      ]);
      if (decided.went_back) throw new Outcome(EXIT.failed, decided.says);
    });
  noun
    .command('forget')
    .description('forget the tokens or the key that wait beside those in use')
    .argument('<name>')
    .option('--yes', 'do not ask')
    .action(async (name: string, options: { yes?: boolean }, command: Command) => {
      const all = globals(command);
      const call = await signedIn(all);
      const { standby } = await call('showConnection', { params: { connection: name } });
      const { confirmed } = await import('../ask.ts');
      if (!(await confirmed(`${standby?.says ?? 'Nothing waits.'} Forget it?`, options.yes))) return;
      const { says } = await call('decideStandby', { params: { connection: name }, body: { decision: 'forget' } });
      say(all, says);
    });
  noun
    .command('prove')
    .description('make the call that proves an ability; one with effects asks first')
    .argument('<name>')
    .option('--ability <ability>', 'such as reading or writing; left out: the first without effects')
    .option('--yes', 'make it though it changes something there')
    .action(async (name: string, options: { ability?: string; yes?: boolean }, command: Command) => {
      const all = globals(command);
      const call = await signedIn(all);
      const { abilities } = await call('showConnection', { params: { connection: name } });
      const wanted = abilities.find((one) => (options.ability === undefined ? !one.effects : one.name === options.ability));
      const { confirmed } = await import('../ask.ts');
      if (wanted?.effects && !(await confirmed(`${wanted.call} changes something there, or somebody sees it. Make it?`, options.yes))) return;
      const answer = await call('probeConnection', {
        params: { connection: name },
        body: { ...(options.ability && { ability: options.ability }), effects: wanted?.effects ?? false },
      });
      printOne(all, answer, [
        ['Call', `${answer.method} ${answer.url}`],
        ['Answer', `${answer.status ?? answer.reason} in ${Math.round(answer.took_ms)} ms`],
        ['Verdict', diagnosisLines(answer.diagnosis ?? null)],
        ['What to do', answer.diagnosis?.remedy],
        ['Body', answer.body.slice(0, 600)],
      ]);
      if (answer.diagnosis) throw new Outcome(answer.diagnosis.side === 'person' ? EXIT.person : EXIT.failed, answer.diagnosis.title);
    });
  noun
    .command('live')
    .description('will it live? What keeps it alive, what ends it first and when, and which abilities are proved')
    .argument('<name>')
    .action(async (name: string, _options: object, command: Command) => {
      const all = globals(command);
      const { live, abilities } = await (await signedIn(all))('showConnection', { params: { connection: name } });
      if (all.output === 'json') return printOne(all, { live, abilities }, []);
      const lines = [
        ...live.lines,
        ...abilities.map((one) => ({
          what: one.name,
          verdict: one.state === 'proved' ? ('good' as const) : one.state === 'failed' ? ('bad' as const) : ('doubt' as const),
          says: `${one.call}: ${one.state.replaceAll('_', ' ')}${one.effects ? ', changes something there' : ''}${one.allowed ? '' : '; the scopes held do not allow it'}`,
          remedy: one.diagnosis?.remedy ?? (one.state === 'not_tried' ? `rk connection prove ${name} --ability ${one.name}` : null),
        })),
      ];
      await printList(
        all,
        lines,
        { '': (one) => lineMark(one.verdict), WHAT: (one) => one.what, SAYS: (one) => one.says, 'WHAT TO DO': (one) => one.remedy ?? '' },
        live.says,
      );
      for (const end of live.ends) say(all, `${end.what} ends ${relative(end.at)} (${end.at}).`);
      say(all, live.says);
    });
  noun
    .command('agreement')
    .description('the agreement of the whole organisation: the link and the text to send; --check looks for the yes')
    .argument('<name>')
    .option('--check', 'look whether they have agreed')
    .action(async (name: string, options: { check?: boolean }, command: Command) => {
      const all = globals(command);
      const call = await signedIn(all);
      if (options.check) {
        const checked = await call('checkAgreement', { params: { connection: name } });
        printOne(all, checked, [
          ['Agreed', checked.agreed === null ? 'not told' : checked.agreed ? 'yes' : 'no'],
          ['Says', checked.says],
          ['Evidence', checked.evidence],
        ]);
        if (checked.agreed !== true) throw new Outcome(EXIT.person, checked.says);
        return;
      }
      const { organisation_agreement: needed } = await call('showConnection', { params: { connection: name } });
      if (!needed) return printOne(all, { organisation_agreement: null }, [['Agreement', 'not needed for what this connection asks for']]);
      printOne(all, needed, [
        ['For', needed.scopes.join(' ')],
        ['Link', needed.link],
        ['Text', needed.text],
        ['Next', needed.check ? `rk connection agreement ${name} --check` : `rk connection open ${name}: a consent tells`],
      ]);
    });
  noun
    .command('explain')
    .description('say what the page means on which the provider stopped: its words or its address, on standard input')
    .argument('<name>')
    .action(async (name: string, _options: object, command: Command) => {
      const all = globals(command);
      const call = await signedIn(all);
      const { open_consent: open } = await call('showConnection', { params: { connection: name } });
      if (!open)
        throw new Outcome(
          EXIT.notFound,
          `No consent of ${name} is under way.\nWhat to do: open the connection, go there again, and let this read the page on which it stops.`,
        );
      const { secret } = await import('../ask.ts');
      const { page_diagnosis: one } = await call('explainPage', { params: { consent: open.id }, body: { page: await secret('Words or address of the page') } });
      printOne(all, one, [
        ['Verdict', diagnosisLines(one)],
        ['What to do', one?.remedy],
      ]);
    });
}
