import { readFileSync, writeFileSync } from 'node:fs';
import type { Command, OptionValues } from '@commander-js/extra-typings';
import { CLIENT_ASSERTION_ALGORITHMS, KEY_KINDS, SECRET_KINDS } from '../../api/choices.ts';
import { UsageError } from '../exit.ts';
import { clientName, date, oneOf } from '../options.ts';
import { relative } from '../print.ts';
import { noun, operation, task, verb } from '../row.ts';
import { failedWith, list, one, text } from '../show.ts';
import { shownClient } from '../views/client.ts';

/** How a key signs: the two options that `add` and `change` share. */
const withSigning = <A extends unknown[], O extends OptionValues>(command: Command<A, O>) =>
  command
    .option('--key-id <id>', 'for a key: the `kid` registered at the provider; default: its RFC 7638 thumbprint')
    .option('--no-key-id', 'for a key: send no `kid`')
    .addOption(oneOf('--algorithm <name>', 'for a key: the signing algorithm; default: one that provider and key support', CLIENT_ASSERTION_ALGORITHMS));

/** `--no-key-id` alone makes the option false; commander then also gives `true` where neither was named. */
const signingBody = ({ keyId, algorithm }: { keyId?: string | boolean; algorithm?: (typeof CLIENT_ASSERTION_ALGORITHMS)[number] }) => ({
  key_id: keyId === false ? null : typeof keyId === 'string' ? keyId : undefined,
  algorithm,
});

/** @throws {UsageError} */
function readBytes(file: string): Buffer {
  try {
    return readFileSync(file);
  } catch {
    throw new UsageError(`The file ${file} cannot be read.`);
  }
}

/** A PKCS#12 file as base64, whether the file has its bytes or base64 already. */
function pkcs12Base64(file: string): string {
  const bytes = readBytes(file);
  const asText = bytes.toString('latin1');
  return /^[\sA-Za-z0-9+/=-]+$/.test(asText) ? asText : bytes.toString('base64');
}

/** `rk client certificate …`: made here, shown, compared; the private key never leaves. */
export const certificate = () =>
  noun('certificate', 'a client\u2019s certificates; the private key never leaves', [
    operation(
      verb(
        'make',
        'make a key and its certificate; then upload the public part at the provider',
        'rk client certificate make ledgerfin/books --common-name saltmarsh',
      )
        .argument('<client>', 'PROVIDER/NAME', clientName)
        .requiredOption('--common-name <name>', 'the name shown on the provider\u2019s page')
        .addOption(oneOf('--key <kind>', 'the kind of key', KEY_KINDS).default('RSA-3072' as const))
        .option('--label <text>', 'to tell them apart')
        .option('--starts <date>', 'default: now', date('--starts'))
        .option('--expires <date>', 'default: a year later', date('--expires')),
      {
        calls: 'makeCertificate',
        input: ({ args: [params], options: { commonName, key, label, starts, expires } }) => ({
          params,
          body: { common_name: commonName, key, label, starts_at: starts, ends_at: expires },
        }),
        shows: (client) => shownClient(client),
      },
    ),
    operation(
      verb(
        'show',
        'show the public part, its thumbprints, and where providers fetch the keys',
        'rk client certificate show ledgerfin/books SECRET_ID --write books.pem',
      )
        .argument('<client>', 'PROVIDER/NAME', clientName)
        .argument('<secret>', 'its id, from `rk client secret list`')
        .option('--write <file>', 'write the public part to this file')
        .addOption(oneOf('--form <form>', 'the format to write', ['pem', 'der'] as const).default('pem' as const)),
      {
        calls: 'showCertificate',
        input: ({ args: [client, secret] }) => ({ params: { ...client, secret } }),
        shows: (shown, { options: { form, write } }) => {
          if (form === 'der' && shown.der === null) throw new UsageError('This key has no certificate, so it has no DER form.');
          if (write !== undefined) writeFileSync(write, form === 'der' ? Buffer.from(shown.der ?? '', 'base64') : `${shown.pem}\n`);
          const prints = Object.entries(shown.thumbprints ?? {}).flatMap(([kind, digest]) =>
            Object.values(digest).map((print, at): [string, string] => [at === 0 ? kind.toUpperCase().replace('SHA', 'SHA-') : '', print]),
          );
          return one(shown, [
            ['Subject', shown.subject],
            ['Expires', shown.ends_at],
            ...prints,
            ['Keys at', shown.keys_url],
            ['Written', write],
            ['Public part', write ? null : shown.pem],
          ]);
        },
      },
    ),
    operation(
      verb('compare', 'compare the thumbprint shown at the provider with ours', 'rk client certificate compare ledgerfin/books SECRET_ID 3A:F0:\u2026')
        .argument('<client>', 'PROVIDER/NAME', clientName)
        .argument('<secret>', 'its id')
        .argument('<thumbprint>', 'in any form'),
      {
        calls: 'compareThumbprint',
        input: ({ args: [client, secret, pasted] }) => ({ params: { ...client, secret }, body: { pasted } }),
        shows: (verdict) => {
          const shown = one(verdict, [['Verdict', verdict.says]]);
          return verdict.same ? shown : failedWith(shown, 'They differ.');
        },
      },
    ),
  ]);

/** `rk client secret …`: secrets go in and never come out. */
export const secret = () =>
  noun('secret', 'a client\u2019s secrets; they go in and never come out', [
    task(
      withSigning(
        verb('add', 'enter a secret: prompted, or read from standard input', 'rk client secret add eelgrass/timetable --expires 2027-03-31')
          .argument('<client>', 'PROVIDER/NAME', clientName)
          .addOption(
            oneOf('--kind <kind>', 'password: of a service user; certificate, key: both as PEM on standard input', SECRET_KINDS).default('secret' as const),
          )
          .option('--pkcs12 <file>', 'a certificate with its key from a PKCS#12 file (bytes or base64); its password is prompted, or read from standard input')
          .option('--label <text>', 'to tell them apart')
          .option('--starts <date>', 'when it becomes valid; default: now, or as the certificate says', date('--starts'))
          .option('--expires <date>', 'the expiration date shown at the provider (YYYY-MM-DD)')
          .option('--at-once', 'use it without verification; earlier ones are retired')
          .option('--take-as-is', 'accept it even if it does not match the format in the definition'),
      ),
      async ({ args: [params], options, call }) => {
        const ask = await import('../ask.ts');
        const typed = await ask.secret(options.pkcs12 === undefined ? 'Client secret' : 'Password of the file');
        const expires = options.expires ?? (await ask.answered('Expiration date shown at the provider (YYYY-MM-DD; empty: unknown):'));
        const entered =
          options.pkcs12 === undefined
            ? { secret: typed, kind: options.kind }
            : { secret: pkcs12Base64(options.pkcs12), password: typed, form: 'pkcs12' as const, kind: 'certificate' as const };
        const client = await call('addSecret', {
          params,
          body: {
            ...entered,
            label: options.label,
            starts_at: options.starts,
            ends_at: expires ? date('--expires')(expires) : null,
            ...signingBody(options),
            at_once: options.atOnce,
            take_as_is: options.takeAsIs,
          },
        });
        const shown = shownClient(client);
        const added = client.secrets.toSorted((each, other) => each.entered_at.localeCompare(other.entered_at)).at(-1);
        if (added?.state !== 'unverified') return shown;
        const next = `The new secret is on standby. It is verified before it replaces the current one, with the next renewal at the latest. Verify it now: rk client secret verify ${params.provider}/${params.client} ${added.id}`;
        return { ...shown, parts: [...shown.parts, text(next)] };
      },
    ),
    operation(
      withSigning(
        verb(
          'change',
          'change the expiration date, label, key ID or algorithm of a secret',
          'rk client secret change eelgrass/timetable SECRET_ID --expires 2027-06-30',
        )
          .argument('<client>', 'PROVIDER/NAME', clientName)
          .argument('<secret>', 'its id')
          .option('--label <text>', 'to tell them apart')
          .option('--expires <date>', 'the expiration date shown at the provider (YYYY-MM-DD), or none'),
      ),
      {
        calls: 'changeSecret',
        input: ({ args: [client, id], options }) => {
          const { label, expires } = options;
          const ends_at = expires === undefined ? undefined : expires === 'none' ? null : date('--expires')(expires);
          const body = { label, ends_at, ...signingBody(options) };
          if (Object.values(body).every((value) => value === undefined))
            throw new UsageError('Name at least one thing to change: --expires, --label, --key-id or --algorithm.');
          return { params: { ...client, secret: id }, body };
        },
        shows: (client) => shownClient(client),
      },
    ),
    operation(
      verb('list', 'list a client\u2019s secrets: kinds, dates and states, never values', 'rk client secret list eelgrass/timetable').argument(
        '<client>',
        'PROVIDER/NAME',
        clientName,
      ),
      {
        calls: 'showClient',
        input: ({ args: [params] }) => ({ params }),
        shows: ({ secrets, provider, name }) =>
          list(
            secrets,
            {
              ID: (each) => each.id,
              KIND: (each) => each.kind,
              LABEL: (each) => each.label,
              STATE: (each) => each.state,
              ENTERED: (each) => relative(each.entered_at),
              EXPIRES: (each) => relative(each.ends_at),
              VERIFIED: (each) => relative(each.verified_at),
              DETAILS: (each) => each.evidence ?? each.says,
            },
            `No secrets yet. Enter one: rk client secret add ${provider}/${name}`,
          ),
      },
    ),
    operation(
      verb('verify', 'verify a secret by a request that uses up nothing, or with the next due renewal', 'rk client secret verify eelgrass/timetable SECRET_ID')
        .argument('<client>', 'PROVIDER/NAME', clientName)
        .argument('<secret>', 'its id'),
      { calls: 'verifySecret', input: ({ args: [client, id] }) => ({ params: { ...client, secret: id } }), shows: (client) => shownClient(client) },
    ),
    operation(
      verb('retire', 'retire a secret and delete its value', 'rk client secret retire eelgrass/timetable SECRET_ID')
        .argument('<client>', 'PROVIDER/NAME', clientName)
        .argument('<secret>', 'its id'),
      {
        calls: 'retireSecret',
        asks: ({ args: [{ provider, client }] }) => `Retire this secret of ${provider}/${client}? Its value is deleted.`,
        input: ({ args: [client, id] }) => ({ params: { ...client, secret: id } }),
        shows: (client) => shownClient(client),
      },
    ),
  ]);
