import type { Answers } from '../../api/clients.ts';
import { UsageError } from '../exit.ts';
import { clientName } from '../options.ts';
import { operation, task, verb } from '../row.ts';
import { line, list, one, type Part, text } from '../show.ts';
import { guideParts, shownClient, shownReady } from '../views/client.ts';

/** Approval that was requested and not decided: the service can look for it. */
const AWAITED = ['requested', 'info_requested'];

/** `question=answer`; a question may have an equals sign of its own. @throws {UsageError} */
function answered(pair: string, before: { question: string; answer: string }[] | undefined) {
  const at = pair.lastIndexOf('=');
  if (at < 1) throw new UsageError(`Write question=answer, not ${pair}.`);
  return [...(before ?? []), { question: pair.slice(0, at), answer: pair.slice(at + 1) }];
}

/** Everything about registering a client at its provider: the guide, forms, approval, and what is compared. */
export const registeringCommands = () => [
  task(
    verb('guide', 'show the registration steps with this client\u2019s own values; --tick marks steps as done', 'rk client guide eelgrass/timetable --tick 1 2')
      .argument('<client>', 'PROVIDER/NAME', clientName)
      .option('--purpose <word>', 'what the client is for, if the steps depend on it')
      .option('--tick <number...>', 'mark these steps as done')
      .option('--untick <number...>', 'mark these steps as not done'),
    async ({ args: [params], options, call }) => {
      let shown = await call('showClient', { params });
      if (options.purpose !== undefined)
        shown = await call('changeClient', { params, body: { revision: shown.revision, registering: { purpose: options.purpose || null } } });
      const titled = (numbers: string[] = []) =>
        numbers.map((number) => {
          const step = shown.guide[Number(number) - 1];
          if (!step) throw new UsageError(`Step ${number} does not exist; the guide has ${shown.guide.length}.`);
          return step.title;
        });
      if (options.tick || options.untick) {
        const [on, off] = [titled(options.tick), titled(options.untick)];
        const done = [...new Set([...shown.registering.done, ...on])].filter((title) => !off.includes(title));
        shown = await call('changeClient', { params, body: { revision: shown.revision, registering: { done } } });
      }
      if (shown.guide.length === 0)
        return line(`The definition of ${shown.provider_title} has no guide. Register at: ${shown.registration_page ?? 'the provider\u2019s own pages'}`, []);
      const purposes: Part[] = shown.purposes.length > 0 ? [text(`Purposes: ${shown.purposes.join(', ')} (now: ${shown.registering.purpose ?? 'none'})`)] : [];
      return { data: shown.guide, parts: [...guideParts(shown.guide), ...purposes] };
    },
  ),
  task(
    verb('answers', 'show the answers that access request forms ask for; options change them', 'rk client answers --contact office@saltmarsh.example')
      .option('--organization <text>', 'your organization')
      .option('--purpose <text>', 'what you use APIs for')
      .option('--contact <address>', 'whom the provider can write to')
      .option('--platform <text>', 'what it runs on')
      .option('--home-page <address>', 'your home page')
      .option('--privacy-page <address>', 'your privacy policy')
      .option('--terms-page <address>', 'your terms of service'),
    async ({ options, call }) => {
      const change: Partial<Answers> = {
        organization: options.organization,
        purpose: options.purpose,
        contact: options.contact,
        platform: options.platform,
        home_page: options.homePage,
        privacy_page: options.privacyPage,
        terms_page: options.termsPage,
      } as Partial<Answers>;
      const changes = Object.values(change).some((value) => value !== undefined);
      const answers = changes ? await call('changeAnswers', { body: change }) : await call('showAnswers');
      return one(
        answers,
        Object.entries(answers).map(([name, said]) => [name.replaceAll('_', ' '), said || 'not answered yet']),
      );
    },
  ),
  operation(
    verb(
      'request',
      'record an access request form that you sent; the installation\u2019s answers are filled in',
      'rk client request oakum/crew --form "Access request"',
    )
      .argument('<client>', 'PROVIDER/NAME', clientName)
      .requiredOption('--form <name>', 'the form, or how else it was sent')
      .option('--answer <question=answer...>', 'answers for this client only', answered)
      .option('--requested-on <date>', 'default: today')
      .option('--expected-on <date>', 'when approval is expected'),
    {
      calls: 'recordRequest',
      input: async ({ args: [params], options, call }) => {
        const { form } = await call('showClient', { params });
        const own = options.answer ?? [];
        const offered = form.filter((one) => !own.some((mine) => mine.question === one.question)).map(({ question, answer }) => ({ question, answer }));
        const open = offered.filter((one) => one.answer === '').map((one) => one.question);
        if (open.length > 0)
          throw new UsageError(`Not answered: ${open.join(' ')} Add --answer "QUESTION=ANSWER", or answer it for all clients with \`rk client answers\`.`);
        const answers = [...offered, ...own];
        return { params, body: { form: options.form, answers, requested_on: options.requestedOn, expected_on: options.expectedOn } };
      },
      shows: (shown) => shownClient(shown),
    },
  ),
  task(
    verb('check', 'check whether approval has come, if the provider reports it, and whether the client is ready', 'rk client check oakum/crew').argument(
      '<client>',
      'PROVIDER/NAME',
      clientName,
    ),
    async ({ args: [params], call }) => {
      const shown = await call('showClient', { params });
      const looks = shown.approval_told && shown.missing.length === 0 && AWAITED.includes(shown.approval);
      return shownReady((looks ? await call('checkApproval', { params }) : shown).ready);
    },
  ),
  operation(
    verb(
      'check-redirect',
      'compare the redirect URI shown at the provider with ours, character by character',
      'rk client check-redirect eelgrass/timetable https://kettle.example/oauth/callback/eelgrass/timetable',
    )
      .argument('<client>', 'PROVIDER/NAME', clientName)
      .argument('<registered>', 'the redirect URI as shown at the provider'),
    {
      calls: 'checkRedirectUri',
      input: ({ args: [params, registered] }) => ({ params, body: { registered } }),
      shows: (verdict) =>
        one(verdict, [
          ['Verdict', verdict.says],
          ['Ours', verdict.ours],
          ['Registered', verdict.shown],
          ['', verdict.at === null ? null : `${' '.repeat(verdict.at)}^`],
        ]),
    },
  ),
  operation(
    verb(
      'paste',
      'sort pasted notes (standard input) into the fields; secrets are sealed and never shown',
      'rk client paste eelgrass/timetable --apply < notes.txt',
    )
      .argument('<client>', 'PROVIDER/NAME', clientName)
      .option('--apply', 'save what was found'),
    {
      calls: 'sortNotes',
      input: async ({ args: [params], options }) => {
        const { standardInput } = await import('../ask.ts');
        return { params, body: { text: await standardInput(), apply: options.apply ?? false } };
      },
      shows: (answer, { options }) => {
        const shown = list(
          answer.found,
          {
            LINE: (found) => String(found.line),
            FIELD: (found) => found.name,
            VALUE: (found) => found.shows,
            WHY: (found) => found.why,
            '': (found) => (found.saved ? 'saved' : ''),
          },
          'Nothing in it fits a field of this provider.',
        );
        const notes = [
          ...(answer.unsorted.length > 0 ? [`Lines that fit no field: ${answer.unsorted.join(', ')}.`] : []),
          ...(!options.apply && answer.found.length > 0 ? ['Nothing is saved yet. To save it, add --apply.'] : []),
        ];
        return { data: { items: answer.found }, parts: [...shown.parts, ...(notes.length > 0 ? [text(notes.join('\n'))] : [])] };
      },
    },
  ),
];
