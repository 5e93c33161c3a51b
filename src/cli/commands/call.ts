import type { Command } from 'commander';
import type { ApiClient } from '../../api/client.ts';
import type { ComposedCall, TriedCall } from '../../api/trying.ts';
import { globals, signedIn } from '../connect.ts';
import { EXIT, Outcome, UsageError } from '../exit.ts';
import type { GlobalOptions } from '../options.ts';
import { printJson, printOne, say } from '../print.ts';
import { readPairs } from './client.ts';
import { diagnosisLines } from './consent-outcome.ts';

interface CallOptions {
  query?: string[];
  header?: string[];
  body?: string;
  saved?: string;
  fill?: string[];
  fromCurl?: string;
  fromHar?: string;
  save?: string;
  says?: string;
  asCurl?: boolean;
  har?: string;
  yes?: boolean;
}

const METHODS = ['GET', 'HEAD', 'POST', 'PUT', 'PATCH', 'DELETE', 'OPTIONS'] as const;

/** `rk call`: what the page Try does. */
export function call(rk: Command): void {
  rk.command('call')
    .description('call the provider\u2019s API with a connection\u2019s token; show, save or take elsewhere what was composed')
    .argument('<connection>')
    .argument('[method]', METHODS.join(', '))
    .argument('[path]', 'a path of the API, or an address below one of its base URLs; {name} is filled in')
    .option('--query <name=value...>', 'added to the path')
    .option('--header <lines...>', 'such as "x-page-size: 20"')
    .option('--body <text>', 'what is sent; @FILE reads a file, - standard input')
    .option('--saved <name>', 'make a saved call, instead of a method and a path')
    .option('--fill <name=value...>', 'values for the names in braces')
    .option('--from-curl <line>', 'read the call out of a curl line; its sign-in is left out')
    .option('--from-har <file>', 'read the first fitting call out of a HAR file')
    .option('--save <name>', 'save the call with the connection instead of making it')
    .option('--says <text>', 'with --save: what it is for', '')
    .option('--as-curl', 'print it as a curl line through the relay instead of making it')
    .option('--har <file>', 'also write call and answer to a HAR file, masked')
    .option('--yes', 'do not ask before a call that may change something on a live connection')
    .action(async function (this: Command, name: string, method: string | undefined, path: string | undefined, options: CallOptions) {
      const all = globals(this);
      const api = await signedIn(all);
      const params = { connection: name };
      const values = readPairs(options.fill ?? []);
      const composed = options.saved === undefined ? await compose(api, name, { ...options, method, path }) : null;
      if (options.saved !== undefined && (method !== undefined || options.save !== undefined || options.asCurl))
        throw new UsageError('--saved names a whole call: leave out method, path, --save and --as-curl.');
      if (composed && options.save !== undefined) {
        const named = [...JSON.stringify(composed).matchAll(/\{([A-Za-z][A-Za-z0-9_.-]*)\}/g)].map((match) => match[1] as string);
        const parameters = [...new Set(named)].map((one) => ({ name: one, value: values[one] ?? null }));
        const { placeholders } = await api('offeredCalls', { params });
        const own = parameters.filter((one) => one.value !== null || placeholders[one.name] === undefined);
        const saved = await api('saveCall', { params, body: { name: options.save, says: options.says ?? '', call: composed, parameters: own } });
        return printOne(all, saved, [
          ['Saved', saved.name],
          ['Call', `${saved.call.method} ${saved.call.path}`],
          ['Filled in', saved.parameters.map((one) => (one.value === null ? `${one.name} each time` : `${one.name} = ${one.value}`)).join(', ')],
          ['Next', `rk call ${name} --saved ${saved.name}${saved.parameters.some((one) => one.value === null) ? ' --fill NAME=VALUE' : ''}`],
        ]);
      }
      if (composed && options.asCurl) {
        const { line } = await api('writeCurl', { params, body: composed });
        return all.output === 'json' ? printJson({ line }) : void process.stdout.write(`${line}\n`);
      }
      const answer = await send(api, name, { ...(composed ?? { saved: options.saved as string }), values }, options.yes);
      if (!answer) return;
      if (options.har !== undefined) await writeHar(all, options.har, answer);
      await show(all, answer);
    });
}

/** The call as it was typed, pasted or recorded. @throws {UsageError} */
async function compose(
  api: ApiClient,
  name: string,
  { method, path, ...options }: CallOptions & { method: string | undefined; path: string | undefined },
): Promise<ComposedCall> {
  const text = options.fromCurl ?? (options.fromHar === undefined ? undefined : await fileText(options.fromHar));
  if (text !== undefined) {
    const read = await api('readCalls', { params: { connection: name }, body: { text } });
    for (const line of read.refused) process.stderr.write(`left out: ${line}\n`);
    const [first] = read.items;
    if (!first) throw new UsageError('No call in it belongs to this connection.');
    if (first.left_out.length > 0) process.stderr.write(`left out: ${first.left_out.join(', ')}\n`);
    return first.call;
  }
  const asked = method?.toUpperCase();
  const known = METHODS.find((one) => one === asked);
  if (!known || path === undefined) throw new UsageError(`Name a method and a path, or --saved, --from-curl or --from-har. Methods: ${METHODS.join(', ')}.`);
  const body =
    options.body === undefined
      ? null
      : options.body.startsWith('@')
        ? await fileText(options.body.slice(1))
        : options.body === '-'
          ? await piped()
          : options.body;
  const headers = (options.header ?? []).map((line) => {
    const colon = line.indexOf(':');
    if (colon <= 0) throw new UsageError(`A header is written as "name: value", not ${line}.`);
    return { name: line.slice(0, colon).trim(), value: line.slice(colon + 1).trim() };
  });
  const query = Object.entries(readPairs(options.query ?? [])).map(([key, value]) => ({ name: key, value }));
  return { method: known, path, query, headers, body };
}

const piped = async (): Promise<string> => (await import('../ask.ts')).standardInput();

async function fileText(path: string): Promise<string> {
  const { readFileSync } = await import('node:fs');
  try {
    return readFileSync(path, 'utf8');
  } catch {
    throw new UsageError(`${path} cannot be read.`);
  }
}

/** Asks with the environment in capitals before a call that may change something there. Null: the answer was no. */
async function send(
  api: ApiClient,
  name: string,
  body: { values: Record<string, string> } & (ComposedCall | { saved: string }),
  yes: boolean | undefined,
): Promise<TriedCall | null> {
  const params = { connection: name };
  try {
    return await api('callConnection', { params, body: { ...body, effects: yes ?? false } });
  } catch (error) {
    const { problem } = error as { problem?: { code: string; detail?: string } };
    if (problem?.code !== 'WRITE_ON_LIVE') throw error;
    const { confirmed } = await import('../ask.ts');
    if (!(await confirmed(`LIVE: ${problem.detail ?? ''} Send it?`, undefined))) return null;
    return api('callConnection', { params, body: { ...body, effects: true } });
  }
}

async function writeHar(all: GlobalOptions, path: string, answer: TriedCall): Promise<void> {
  const { writeFileSync } = await import('node:fs');
  writeFileSync(path, `${JSON.stringify(answer.har, null, 2)}\n`);
  say(all, `Wrote ${path}.`);
}

async function show(all: GlobalOptions, answer: TriedCall): Promise<void> {
  if (all.output === 'json') printJson(answer);
  else {
    const where = answer.rehearsal ? 'rehearsal' : answer.environment;
    process.stderr.write(
      `${answer.method} ${answer.url} (${where}): ${answer.status ?? answer.reason}, ${answer.bytes ?? 0} bytes in ${Math.round(answer.took_ms)} ms\n`,
    );
    const verdict = diagnosisLines(answer.diagnosis ?? null);
    if (verdict) process.stderr.write(`${verdict}\n`);
    process.stdout.write(`${answer.body}\n${answer.cut ? '(cut at 64 kB)\n' : ''}`);
    if (answer.page) process.stderr.write(`${answer.page}\n`);
  }
  // Some APIs put their errors into a good status: the verdict counts.
  if (answer.status === null || answer.status >= 400 || answer.diagnosis) {
    const remedy = answer.diagnosis ? `\nWhat to do: ${answer.diagnosis.remedy}` : '';
    throw new Outcome(EXIT.failed, `The API answered ${answer.status ?? answer.reason}.${remedy}`);
  }
}
