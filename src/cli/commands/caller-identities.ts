import { UsageError } from '../exit.ts';
import { pairs } from '../options.ts';
import { readText } from '../read-text.ts';
import { noun, operation, verb } from '../row.ts';
import { shownCaller } from '../views/caller.ts';

interface Options {
  jwks?: string;
  jwksUrl?: string;
  issuer?: string;
  audience?: string;
  claim?: Record<string, string>;
  certificate?: string;
  subject?: string;
  label?: string;
}

/** What the options describe, one of three kinds. @throws {UsageError} */
function bodyOf({ jwks, jwksUrl, issuer, audience, claim, certificate, subject, label = '' }: Options) {
  if (issuer !== undefined) {
    if (!claim) throw new UsageError('Name at least one claim with --claim: else every token of this issuer is the caller.');
    return { kind: 'workload' as const, label, issuer, claims: claim, ...(jwksUrl ? { jwks_url: jwksUrl } : {}), ...(audience ? { audience } : {}) };
  }
  if (certificate !== undefined || subject !== undefined)
    return { kind: 'certificate' as const, label, ...(certificate ? { certificate: readText(certificate) } : {}), ...(subject ? { subject } : {}) };
  if (jwks === undefined && jwksUrl === undefined) throw new UsageError('Give --jwks or --jwks-url, --issuer with --claim, or --certificate or --subject.');
  if (jwks === undefined) return { kind: 'key' as const, label, jwks_url: jwksUrl };
  try {
    const read = JSON.parse(readText(jwks)) as { keys?: Record<string, unknown>[] } & Record<string, unknown>;
    return { kind: 'key' as const, label, jwks: { keys: read.keys ?? [read] } };
  } catch (error) {
    if (error instanceof UsageError) throw error;
    throw new UsageError(`${jwks} is not JSON. Give a public key as JWK, or a set of them.`);
  }
}

/** `rk caller identity`: callers that keep no secret which is stored here. */
export const identityCommands = () => [
  noun('identity', 'ways for a caller to authenticate without a secret that is stored here', [
    operation(
      verb(
        'add',
        'register a public key, a trusted issuer with claims, or a certificate',
        'rk caller identity add nightly --issuer https://ci.example --claim sub=nightly',
      )
        .argument('<caller>')
        .option('--jwks <file>', 'a public key as JWK, or a set of them: for private_key_jwt')
        .option('--jwks-url <address>', 'where its public keys are')
        .option('--issuer <address>', 'the issuer of workload tokens, such as a cluster or a CI system')
        .option('--claim <name=value>', 'a claim that must be so, may be repeated; * at the end matches what begins so', pairs)
        .option('--audience <text>', 'the audience of its tokens; default: the address of the service')
        .option('--certificate <file>', 'a certificate in PEM')
        .option('--subject <name>', 'the subject of a certificate of your own authority')
        .option('--label <text>', 'to tell them apart'),
      { calls: 'addIdentity', input: ({ args: [name], options }) => ({ params: { caller: name }, body: bodyOf(options as Options) }), shows: shownCaller },
    ),
    operation(
      verb('remove', 'end such a way to authenticate', 'rk caller identity remove nightly 01890000-0000-7000-8000-000000000000 --yes')
        .argument('<caller>')
        .argument('<identity>'),
      {
        calls: 'removeIdentity',
        input: ({ args: [name, identity] }) => ({ params: { caller: name, identity } }),
        asks: ({ args: [name] }) => `End this way for ${name} to authenticate?`,
        shows: shownCaller,
      },
    ),
  ]),
];
