import { FORMATS, RELAY_METHODS } from '../../api/choices.ts';
import type { ApiClient } from '../../api/client.ts';
import type { ComposedCall, TriedCall } from '../../api/trying.ts';
import { UsageError } from '../exit.ts';
import { oneOf, pairs, whole } from '../options.ts';
import { plain } from '../plain.ts';
import { agreed, task, verb } from '../row.ts';
import { failedWith, line, one, type Shown, text } from '../show.ts';
import { diagnosisLines } from '../views/diagnosis.ts';
import { allPages } from './call-all-pages.ts';
import { columns, document } from './job-settings.ts';
import { readText } from './provider-source.ts';

interface Composing {
  query?: Record<string, string>;
  header?: string[];
  body?: string;
  fromCurl?: string;
  fromHar?: string;
}

/** `rk call`: what the page Test call does. */
export const call = () =>
  task(
    verb('call', 'call the provider\u2019s API through a connection; save the call, or export it as curl or HAR', 'rk call sailings GET /tables')
      .argument('<connection>')
      .argument('[method]', RELAY_METHODS.join(', '))
      .argument('[path]', 'a path of the API, or an address below one of its base URLs; {name} is filled in')
      .option('--query <name=value...>', 'query parameters', pairs)
      .option('--header <lines...>', 'such as "x-page-size: 20"')
      .option('--body <text>', 'the body to send; @FILE reads a file, - standard input')
      .option('--saved <name>', 'make a saved call, instead of a method and a path')
      .option('--fill <name=value...>', 'values for the names in braces', pairs)
      .option('--from-curl <line>', 'take the call from a curl line; its credentials are left out')
      .option('--from-har <file>', 'take the first matching call from a HAR file')
      .option('--save <name>', 'save the call with the connection instead of making it')
      .option('--description <text>', 'with --save: what it is for')
      .option('--as-curl', 'print it as a curl line through the relay instead of making it')
      .option('--har <file>', 'also write call and answer to a HAR file, secrets masked')
      .option('--all-pages', 'collect all pages, with progress on standard error and the records on standard output')
      .option(
        '--paging <document>',
        'with --all-pages: how the list is paged, in JSON or YAML; default: as the definition states, or as it is recognized',
        document,
      )
      .option('--columns <list...>', 'with --all-pages: FIELD or FIELD=TITLE, separated by commas; default: all', columns)
      .option('--days <n>', 'with --all-pages: how far back a list goes that is cut by date', whole('--days'))
      .addOption(oneOf('--format <format>', 'with --all-pages: csv, ndjson or json', FORMATS).default('csv' as const))
      .option('--to <file>', 'with --all-pages: write a file instead')
      .option('--yes', 'do not ask before a call that may change something on a live connection, or before recognized paging is followed'),
    async ({ args: [name, method, path], options, rk, call: api }) => {
      const params = { connection: name };
      const values = options.fill ?? {};
      if (options.saved !== undefined && (method !== undefined || options.save !== undefined || options.asCurl))
        throw new UsageError('--saved names a whole call: leave out method, path, --save and --as-curl.');
      const composed = options.saved === undefined ? await compose(api, name, { ...options, method, path }) : null;
      if (composed && options.save !== undefined) return save(api, name, { composed, values, as: options.save, says: options.description ?? '' });
      if (composed && options.asCurl) {
        const { line: curl } = await api('writeCurl', { params, body: composed });
        return line(curl, { line: curl });
      }
      if (options.allPages) {
        const what = composed ? { call: composed } : { saved: options.saved ?? '' };
        return allPages({ api, rk }, name, { ...what, values }, options);
      }
      const answer = await send(api, name, { ...(composed ?? { saved: options.saved ?? '' }), values }, options.yes);
      if (!answer) return undefined;
      if (options.har !== undefined) await writeHar(options.har, answer);
      if (rk.output === 'table') noteOnError(answer);
      return shownAnswer(answer, options.har);
    },
  );

async function save(
  api: ApiClient,
  name: string,
  { composed, values, as, says }: { composed: ComposedCall; values: Record<string, string>; as: string; says: string },
): Promise<Shown> {
  const params = { connection: name };
  const inBraces = [...JSON.stringify(composed).matchAll(/\{([A-Za-z][A-Za-z0-9_.-]*)\}/g)].map((match) => match[1] as string);
  const parameters = [...new Set(inBraces)].map((parameter) => ({ name: parameter, value: values[parameter] ?? null }));
  const { placeholders } = await api('offeredCalls', { params });
  const own = parameters.filter((parameter) => parameter.value !== null || placeholders[parameter.name] === undefined);
  const saved = await api('saveCall', { params, body: { name: as, says, call: composed, parameters: own } });
  return one(saved, [
    ['Saved', saved.name],
    ['Call', `${saved.call.method} ${saved.call.path}`],
    [
      'Parameters',
      saved.parameters.map((parameter) => (parameter.value === null ? `${parameter.name} each time` : `${parameter.name} = ${parameter.value}`)).join(', '),
    ],
    ['Next', `rk call ${name} --saved ${saved.name}${saved.parameters.some((parameter) => parameter.value === null) ? ' --fill NAME=VALUE' : ''}`],
  ]);
}

/** The call as it was typed, pasted or recorded. @throws {UsageError} */
async function compose(
  api: ApiClient,
  name: string,
  { method, path, ...options }: Composing & { method: string | undefined; path: string | undefined },
): Promise<ComposedCall> {
  const recorded = options.fromCurl ?? (options.fromHar === undefined ? undefined : readText(options.fromHar));
  if (recorded !== undefined) {
    const read = await api('readCalls', { params: { connection: name }, body: { text: recorded } });
    for (const refused of read.refused) process.stderr.write(`left out: ${refused}\n`);
    const [first] = read.items;
    if (!first) throw new UsageError('No call in it belongs to this connection.');
    if (first.left_out.length > 0) process.stderr.write(`left out: ${first.left_out.join(', ')}\n`);
    return first.call;
  }
  const asked = method?.toUpperCase();
  const known = RELAY_METHODS.find((each) => each === asked);
  if (!known || path === undefined)
    throw new UsageError(`Name a method and a path, or --saved, --from-curl or --from-har. Methods: ${RELAY_METHODS.join(', ')}.`);
  const headers = (options.header ?? []).map((written) => {
    const colon = written.indexOf(':');
    if (colon <= 0) throw new UsageError(`Write a header as "name: value", not ${written}.`);
    return { name: written.slice(0, colon).trim(), value: written.slice(colon + 1).trim() };
  });
  const query = Object.entries(options.query ?? {}).map(([key, value]) => ({ name: key, value }));
  return { method: known, path, query, headers, body: await bodyOf(options.body) };
}

async function bodyOf(given: string | undefined): Promise<string | null> {
  if (given === undefined) return null;
  if (given === '-') return (await import('../ask.ts')).standardInput();
  return given.startsWith('@') ? readText(given.slice(1)) : given;
}

/** Asks with the environment in capitals before a call that may change something there. Null: the answer was no. */
async function send(
  api: ApiClient,
  name: string,
  body: { values: Record<string, string> } & (ComposedCall | { saved: string }),
  yes: true | undefined,
): Promise<TriedCall | null> {
  const params = { connection: name };
  try {
    return await api('callConnection', { params, body: { ...body, effects: yes ?? false } });
  } catch (error) {
    const { problem } = error as { problem?: { code: string; detail?: string } };
    if (problem?.code !== 'WRITE_ON_LIVE') throw error;
    if (!(await agreed({}, `LIVE: ${problem.detail ?? ''} Send it?`))) return null;
    return api('callConnection', { params, body: { ...body, effects: true } });
  }
}

async function writeHar(path: string, answer: TriedCall): Promise<void> {
  const { writeFileSync } = await import('node:fs');
  writeFileSync(path, `${JSON.stringify(answer.har, null, 2)}\n`);
}

/** What is known about the call goes to standard error, so that standard output is the body alone. */
function noteOnError(answer: TriedCall): void {
  const where = answer.rehearsal ? 'rehearsal' : answer.environment;
  const notes = [
    `${answer.method} ${answer.url} (${where}): ${answer.status ?? answer.reason}, ${answer.bytes ?? 0} bytes in ${Math.round(answer.took_ms)} ms`,
    diagnosisLines(answer.diagnosis ?? null),
    answer.page,
  ];
  for (const note of notes) if (note) process.stderr.write(`${plain(note)}\n`);
}

function shownAnswer(answer: TriedCall, har: string | undefined): Shown {
  const shown: Shown = {
    data: answer,
    parts: [...(har === undefined ? [] : [text(`Wrote ${har}.`)]), text(`${answer.body}${answer.cut ? '\n(truncated at 64 kB)' : ''}`)],
  };
  // Some APIs put their errors into a good status: the verdict counts.
  if (answer.status !== null && answer.status < 400 && !answer.diagnosis) return shown;
  const remedy = answer.diagnosis ? `\nWhat to do: ${answer.diagnosis.remedy}` : '';
  return failedWith(shown, `The API answered ${answer.status ?? answer.reason}.${remedy}`);
}
