import type { Command } from 'commander';
import type { Answers, Client } from '../../api/clients.ts';
import { globals, signedIn } from '../connect.ts';
import { EXIT, Outcome, UsageError } from '../exit.ts';
import type { GlobalOptions } from '../options.ts';
import { lineMark, printJson, printList, printOne, say } from '../print.ts';
import { splitClient } from './client-secret.ts';

/** The ready lines as a table, and the one line under it; what is missing asks for an exit code of its own. */
export async function showReady(all: GlobalOptions, ready: Client['ready']): Promise<void> {
  if (all.output === 'json') printJson(ready);
  else {
    await printList(
      all,
      ready.lines,
      { '': (line) => lineMark(line.verdict), WHAT: (line) => line.what, SAYS: (line) => line.says, 'WHAT TO DO': (line) => line.remedy ?? '' },
      'Nothing to check.',
    );
    if (ready.ready) say(all, ready.says);
  }
  if (!ready.ready) throw new Outcome(EXIT.failed, ready.says);
}

/** Everything about registering a client at its provider: the guide, forms, approval, and what is compared. */
export function clientRegistering(noun: Command, show: (all: GlobalOptions, one: Client, next?: string) => Promise<void>): void {
  noun
    .command('guide')
    .description('the steps of registering a client, with its own values; --tick remembers what is done')
    .argument('<client>', 'PROVIDER/NAME')
    .option('--purpose <word>', 'what it is for, where the steps differ by it')
    .option('--tick <number...>', 'steps that are done')
    .option('--untick <number...>')
    .action(async (name: string, options: { purpose?: string; tick?: string[]; untick?: string[] }, command: Command) => {
      const all = globals(command);
      const call = await signedIn(all);
      const params = splitClient(name);
      let one = await call('showClient', { params });
      if (options.purpose !== undefined)
        one = await call('changeClient', { params, body: { revision: one.revision, registering: { purpose: options.purpose || null } } });
      const titled = (numbers: string[] = []) =>
        numbers.map((number) => {
          const step = one.guide[Number(number) - 1];
          if (!step) throw new UsageError(`There is no step ${number}; there are ${one.guide.length}.`);
          return step.title;
        });
      if (options.tick || options.untick) {
        const [on, off] = [titled(options.tick), titled(options.untick)];
        const done = [...new Set([...one.registering.done, ...on])].filter((title) => !off.includes(title));
        one = await call('changeClient', { params, body: { revision: one.revision, registering: { done } } });
      }
      if (all.output === 'json') return printJson(one.guide);
      if (one.guide.length === 0)
        return say(all, `The definition of ${one.provider_title} has no guide. Register at: ${one.registration_page ?? 'its own pages'}`);
      for (const [at, step] of one.guide.entries()) {
        process.stdout.write(`${step.done ? '\u2713' : '\u00b7'} ${at + 1}. ${step.title}\n`);
        for (const [label, text] of [
          ['There', step.where],
          ['Page', step.page],
          ['Do', step.does],
          ['Not', step.look_alike],
          ['Empty', step.leave_empty],
          ['Instead', step.instead],
          ['Missing', step.missing.join(', ')],
        ])
          if (text) process.stdout.write(`     ${String(label).padEnd(8)}${text}\n`);
      }
      if (one.purposes.length > 0) say(all, `Purposes: ${one.purposes.join(', ')} (now: ${one.registering.purpose ?? 'none'})`);
    });
  noun
    .command('answers')
    .description('what is answered in every form; options change it')
    .option('--organisation <text>', 'who we are')
    .option('--purpose <text>', 'what we use APIs for')
    .option('--contact <address>', 'whom they can write to')
    .option('--platform <text>', 'on what it runs')
    .option('--home-page <address>')
    .option('--privacy-page <address>')
    .option('--terms-page <address>')
    .action(async (options: Record<string, string>, command: Command) => {
      const all = globals(command);
      const call = await signedIn(all);
      const change = Object.fromEntries(Object.entries(options).map(([name, text]) => [name.replace(/[A-Z]/g, (letter) => `_${letter.toLowerCase()}`), text]));
      const answers = Object.keys(change).length > 0 ? await call('changeAnswers', { body: change as Partial<Answers> }) : await call('showAnswers');
      printOne(
        all,
        answers,
        Object.entries(answers).map(([name, text]) => [name.replaceAll('_', ' '), text || 'not answered yet']),
      );
    });
  noun
    .command('request')
    .description('keep what was sent by an access request form; what the installation answers is filled in')
    .argument('<client>', 'PROVIDER/NAME')
    .requiredOption('--form <name>', 'which form, or how else it was sent')
    .option('--answer <question=answer...>', 'answers of this client alone')
    .option('--asked-on <date>', 'left out: today')
    .option('--expected-on <date>', 'when approval is expected')
    .action(async (name: string, options: { form: string; answer?: string[]; askedOn?: string; expectedOn?: string }, command: Command) => {
      const all = globals(command);
      const call = await signedIn(all);
      const params = splitClient(name);
      const { form } = await call('showClient', { params });
      const own = (options.answer ?? []).map((pair) => {
        const at = pair.lastIndexOf('=');
        if (at < 1) throw new UsageError(`Write question=answer, not ${pair}.`);
        return { question: pair.slice(0, at), answer: pair.slice(at + 1) };
      });
      const offered = form.filter((one) => !own.some((mine) => mine.question === one.question)).map(({ question, answer }) => ({ question, answer }));
      const open = offered.filter((one) => one.answer === '').map((one) => one.question);
      if (open.length > 0)
        throw new UsageError(`Not answered: ${open.join(' ')} Say --answer "QUESTION=ANSWER", or answer it for all with \`rk client answers\`.`);
      const body = {
        form: options.form,
        answers: [...offered, ...own],
        ...(options.askedOn && { asked_on: options.askedOn }),
        expected_on: options.expectedOn ?? null,
      };
      await show(all, await call('recordRequest', { params, body }));
    });
  noun
    .command('check')
    .description('is it ready? Looks whether approval has come, where the provider tells; then says what is missing')
    .argument('<client>', 'PROVIDER/NAME')
    .action(async (name: string, _options: object, command: Command) => {
      const all = globals(command);
      const call = await signedIn(all);
      const params = splitClient(name);
      let one = await call('showClient', { params });
      if (one.approval_told && one.missing.length === 0 && ['asked', 'they_ask_back'].includes(one.approval)) one = await call('checkApproval', { params });
      await showReady(all, one.ready);
    });
  noun
    .command('check-redirect')
    .description('compare the redirect URI as the provider shows it with ours, character by character; it is kept')
    .argument('<client>', 'PROVIDER/NAME')
    .argument('<registered>', 'as it stands at the provider')
    .action(async (name: string, registered: string, _options: object, command: Command) => {
      const all = globals(command);
      const verdict = await (await signedIn(all))('checkRedirectUri', { params: splitClient(name), body: { registered } });
      printOne(all, verdict, [
        ['Verdict', verdict.says],
        ['Ours', verdict.ours],
        ['Registered', verdict.shown],
        ['', verdict.at === null ? null : `${' '.repeat(verdict.at)}^`],
      ]);
    });
  noun
    .command('notepad')
    .description('sort a notepad on standard input into the fields; secrets are sealed and never shown back')
    .argument('<client>', 'PROVIDER/NAME')
    .option('--apply', 'save what was found')
    .action(async (name: string, options: { apply?: boolean }, command: Command) => {
      const all = globals(command);
      const { standardInput } = await import('../ask.ts');
      const answer = await (await signedIn(all))('sortNotepad', {
        params: splitClient(name),
        body: { text: await standardInput(), apply: options.apply ?? false },
      });
      await printList(
        all,
        answer.found,
        {
          LINE: (one) => String(one.line),
          FIELD: (one) => one.name,
          VALUE: (one) => one.shows,
          WHY: (one) => one.why,
          '': (one) => (one.saved ? 'saved' : ''),
        },
        'Nothing in it fits a field of this provider.',
      );
      if (answer.unsorted.length > 0) say(all, `Lines that fit nothing: ${answer.unsorted.join(', ')}.`);
      if (!options.apply && answer.found.length > 0) say(all, 'Nothing is saved yet: say --apply.');
    });
}
