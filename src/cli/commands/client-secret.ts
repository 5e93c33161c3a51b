import { readFileSync, writeFileSync } from 'node:fs';
import type { Command } from 'commander';
import type { Client } from '../../api/clients.ts';
import { globals, signedIn } from '../connect.ts';
import { EXIT, Outcome, UsageError } from '../exit.ts';
import type { GlobalOptions } from '../options.ts';
import { printList, printOne, relative, say } from '../print.ts';

/** A client is named PROVIDER/NAME. */
export function splitClient(text: string): { provider: string; client: string } {
  const [provider, client, ...more] = text.split('/');
  if (!provider || !client || more.length > 0) throw new UsageError(`A client is named PROVIDER/NAME, not ${text}.`);
  return { provider, client };
}

interface SigningOptions {
  /** False: none is sent. */
  keyId?: string | false;
  algorithm?: 'RS256';
}

const signingBody = (options: SigningOptions) => ({
  ...(options.keyId === undefined ? {} : { key_id: options.keyId === false ? null : options.keyId }),
  ...(options.algorithm === undefined ? {} : { algorithm: options.algorithm }),
});

interface SecretOptions extends SigningOptions {
  kind: 'secret';
  label: string;
  pkcs12?: string;
  starts?: string;
  ends?: string;
  atOnce?: boolean;
  takeAsIs?: boolean;
}

/** @throws {UsageError} */
function readBytes(file: string): Buffer {
  try {
    return readFileSync(file);
  } catch {
    throw new UsageError(`The file ${file} cannot be read.`);
  }
}

/** A date as people type it. @throws {UsageError} */
function readDate(option: string, text: string | undefined): string | null {
  if (text === undefined || text === '') return null;
  const date = new Date(text);
  if (Number.isNaN(date.getTime())) throw new UsageError(`${option} takes a date such as 2027-03-31, not ${text}.`);
  return date.toISOString();
}

/** A PKCS#12 file as base64, whether the file has its bytes or base64 already. */
function pkcs12Base64(file: string): string {
  const bytes = readBytes(file);
  const text = bytes.toString('latin1');
  return /^[\sA-Za-z0-9+/=-]+$/.test(text) ? text : bytes.toString('base64');
}

/** `rk client certificate …`: made here, shown, compared; the private key never leaves. */
export function clientCertificate(noun: Command, show: (all: GlobalOptions, one: Client) => Promise<void>): void {
  const certificate = noun.command('certificate').description('a client\u2019s certificates; the private key never leaves');
  certificate
    .command('make')
    .description('make a key and its certificate; then upload the public part at the provider')
    .argument('<client>', 'PROVIDER/NAME')
    .requiredOption('--common-name <name>', 'what the provider\u2019s page will show')
    .option('--key <kind>', 'RSA-2048, RSA-3072, RSA-4096, P-256 or P-384', 'RSA-3072')
    .option('--label <text>', 'to tell them apart', '')
    .option('--starts <date>')
    .option('--ends <date>', 'left out: a year later')
    .action(async (name: string, options: { commonName: string; key: 'RSA-3072'; label: string; starts?: string; ends?: string }, command: Command) => {
      const all = globals(command);
      const body = {
        common_name: options.commonName,
        key: options.key,
        label: options.label,
        starts_at: readDate('--starts', options.starts),
        ends_at: readDate('--ends', options.ends),
      };
      await show(all, await (await signedIn(all))('makeCertificate', { params: splitClient(name), body }));
    });
  certificate
    .command('show')
    .description('the public part, its thumbprints, and where providers can fetch the keys')
    .argument('<client>', 'PROVIDER/NAME')
    .argument('<secret>', 'its id, as rk client secret list shows it')
    .option('--write <file>', 'write the public part there')
    .option('--form <form>', 'pem or der', 'pem')
    .action(async (name: string, id: string, options: { write?: string; form: string }, command: Command) => {
      const all = globals(command);
      const one = await (await signedIn(all))('showCertificate', { params: { ...splitClient(name), secret: id } });
      if (options.form !== 'pem' && options.form !== 'der') throw new UsageError(`--form takes pem or der, not ${options.form}.`);
      if (options.form === 'der' && one.der === null) throw new UsageError('This key came without a certificate: there is no DER form of it.');
      if (options.write !== undefined) writeFileSync(options.write, options.form === 'der' ? Buffer.from(one.der ?? '', 'base64') : `${one.pem}\n`);
      const prints = one.thumbprints
        ? Object.entries(one.thumbprints).flatMap(([kind, digest]) =>
            Object.values(digest).map((text, at): [string, string] => [at === 0 ? kind.toUpperCase().replace('SHA', 'SHA-') : '', text]),
          )
        : [];
      printOne(all, one, [
        ['Subject', one.subject],
        ['Ends', one.ends_at],
        ...prints,
        ['Keys at', one.keys_url],
        ['Written', options.write],
        ['Public part', options.write ? null : one.pem],
      ]);
    });
  certificate
    .command('compare')
    .description('compare the thumbprint that the provider shows with ours')
    .argument('<client>', 'PROVIDER/NAME')
    .argument('<secret>', 'its id')
    .argument('<thumbprint>', 'in any form')
    .action(async function (this: Command, name: string, id: string, pasted: string) {
      const all = globals(this);
      const verdict = await (await signedIn(all))('compareThumbprint', { params: { ...splitClient(name), secret: id }, body: { pasted } });
      printOne(all, verdict, [['Verdict', verdict.says]]);
      if (!verdict.same) throw new Outcome(EXIT.failed, 'They differ.');
    });
}

/** `rk client secret …`: secrets go in and never come out. */
export function clientSecret(noun: Command, show: (all: GlobalOptions, one: Client) => Promise<void>): void {
  const secretNoun = noun.command('secret').description('a client\u2019s secrets; they go in and never come out');
  secretNoun
    .command('add')
    .description('enter a secret: asked for, or read from standard input')
    .argument('<client>', 'PROVIDER/NAME')
    .option('--kind <kind>', 'secret, password (of a service user), certificate or key (both as PEM on standard input)', 'secret')
    .option('--pkcs12 <file>', 'a certificate with its key from a PKCS#12 file, its bytes or base64; its password is asked for, or read from standard input')
    .option('--label <text>', 'to tell them apart', '')
    .option('--starts <date>', 'when it begins (YYYY-MM-DD); left out: now, or as the certificate says')
    .option('--ends <date>', 'when the provider lets it end (YYYY-MM-DD)')
    .option('--key-id <id>', 'for a key: the `kid` registered at the provider (default: its RFC 7638 thumbprint)')
    .option('--no-key-id', 'for a key: send no `kid`')
    .option('--algorithm <name>', 'for a key: the signing algorithm, such as ES256 (default: one that provider and key support)')
    .option('--at-once', 'use it without proof; those before it are retired')
    .option('--take-as-is', 'take it though it does not look as the definition says')
    .action(async (name: string, options: SecretOptions, command: Command) => {
      const all = globals(command);
      const { secret, answered } = await import('../ask.ts');
      const call = await signedIn(all);
      const what = options.pkcs12 === undefined ? 'Client secret' : 'Password of the file';
      const typed = await secret(what);
      const ends = options.ends ?? (await answered('Expiration date shown at the provider (YYYY-MM-DD; empty: unknown):'));
      const dates = { starts_at: readDate('--starts', options.starts), ends_at: readDate('--ends', ends) };
      const entered =
        options.pkcs12 === undefined
          ? { secret: typed, kind: options.kind }
          : { secret: pkcs12Base64(options.pkcs12), password: typed, form: 'pkcs12' as const, kind: 'certificate' as const };
      const client = await call('addSecret', {
        params: splitClient(name),
        body: {
          ...entered,
          label: options.label,
          ...dates,
          ...signingBody(options),
          at_once: options.atOnce ?? false,
          take_as_is: options.takeAsIs ?? false,
        },
      });
      await show(all, client);
      const added = client.secrets.toSorted((one, other) => one.entered_at.localeCompare(other.entered_at)).at(-1);
      if (added?.state === 'unproved')
        say(
          all,
          `The new secret is on standby. It is verified before it replaces the current one, with the next renewal at the latest. Verify it now: rk client secret prove ${name} ${added.id}`,
        );
    });
  secretNoun
    .command('change')
    .description('change the expiration date, label, key ID or algorithm of a secret')
    .argument('<client>', 'PROVIDER/NAME')
    .argument('<secret>', 'its id')
    .option('--label <text>', 'to tell them apart')
    .option('--ends <date>', 'expiration date at the provider (YYYY-MM-DD), or none')
    .option('--key-id <id>', 'for a key: the `kid` registered at the provider')
    .option('--no-key-id', 'for a key: send no `kid`')
    .option('--algorithm <name>', 'for a key: the signing algorithm, such as ES256')
    .action(async (name: string, id: string, options: { label?: string; ends?: string } & SigningOptions, command: Command) => {
      const all = globals(command);
      const ends = options.ends === undefined ? {} : { ends_at: options.ends === 'none' ? null : readDate('--ends', options.ends) };
      const body = { ...(options.label === undefined ? {} : { label: options.label }), ...ends, ...signingBody(options) };
      if (Object.keys(body).length === 0) throw new UsageError('Name at least one thing to change: --ends, --label, --key-id or --algorithm.');
      await show(all, await (await signedIn(all))('changeSecret', { params: { ...splitClient(name), secret: id }, body }));
    });
  secretNoun
    .command('list')
    .description('list a client\u2019s secrets: kinds, dates and states, never values')
    .argument('<client>', 'PROVIDER/NAME')
    .action(async (name: string, _options: object, command: Command) => {
      const all = globals(command);
      const { secrets } = await (await signedIn(all))('showClient', { params: splitClient(name) });
      await printList(
        all,
        secrets,
        {
          ID: (one) => one.id,
          KIND: (one) => one.kind,
          LABEL: (one) => one.label,
          STATE: (one) => one.state,
          ENTERED: (one) => relative(one.entered_at),
          ENDS: (one) => relative(one.ends_at),
          PROVED: (one) => relative(one.proved_at),
          SAYS: (one) => one.evidence ?? one.says,
        },
        `None yet. Enter one: rk client secret add ${name}`,
      );
    });
  for (const [verb, operation, does] of [
    ['prove', 'proveSecret', 'prove a secret by a request that can spend nothing, or with the next due renewal'],
    ['retire', 'retireSecret', 'retire a secret: its value is forgotten'],
  ] as const)
    secretNoun
      .command(verb)
      .description(does)
      .argument('<client>', 'PROVIDER/NAME')
      .argument('<secret>', 'its id')
      .option('--yes', 'do not ask')
      .action(async (name: string, id: string, options: { yes?: boolean }, command: Command) => {
        const all = globals(command);
        if (verb === 'retire' && !(await (await import('../ask.ts')).confirmed(`Retire this secret of ${name}? Its value is forgotten.`, options.yes))) return;
        await show(all, await (await signedIn(all))(operation, { params: { ...splitClient(name), secret: id } }));
      });
}
