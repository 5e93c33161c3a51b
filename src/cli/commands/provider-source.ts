import { readFileSync } from 'node:fs';
import type { Command, OptionValues } from '@commander-js/extra-typings';
import { CLIENT_AUTHENTICATION_METHODS } from '../../api/choices.ts';
import type { BodyOf } from '../../api/operations.ts';
import { UsageError } from '../exit.ts';
import { oneOf, pairs } from '../options.ts';

const SEPARATORS = [' ', ',', ';', '+'] as const;

/** What a definition can be drafted from. */
export const withSources = <A extends unknown[], O extends OptionValues>(command: Command<A, O>) =>
  command
    .option('--issuer <address>', 'an issuer, or the address of its metadata')
    .option('--openapi <file>', 'an OpenAPI 3.x document: a file, or its address')
    .option('--token-url <address>', 'the short form: the token URL\u2026')
    .option('--authorization-url <address>', '\u2026the authorization URL (default: nobody signs in)\u2026')
    .option('--api-call <address>', '\u2026one API call that verifies a connection\u2026')
    .option('--scopes <list>', '\u2026and the scopes, pasted in any form')
    .addOption(oneOf('--method <method>', 'how the client authenticates', CLIENT_AUTHENTICATION_METHODS))
    .addOption(oneOf('--scope-separator <sign>', 'what joins scopes, if it is not a space', SEPARATORS))
    .option('--authorization-parameter <name=value...>', 'sent with every authorization request', pairs)
    .option('--token-parameter <name=value...>', 'sent with every token request, such as an audience', pairs)
    .option('--name <name>', 'a name for the provider')
    .option('--title <title>', 'a title for people');

export interface Source {
  issuer?: string;
  openapi?: string;
  authorizationUrl?: string;
  tokenUrl?: string;
  apiCall?: string;
  scopes?: string;
  method?: (typeof CLIENT_AUTHENTICATION_METHODS)[number];
  scopeSeparator?: (typeof SEPARATORS)[number];
  authorizationParameter?: Record<string, string>;
  tokenParameter?: Record<string, string>;
  name?: string;
  title?: string;
}

/** @throws {UsageError} */
export function readText(file: string): string {
  try {
    return readFileSync(file, 'utf8');
  } catch {
    throw new UsageError(`The file ${file} cannot be read.`);
  }
}

/** Options that belong to the short form alone. */
const SHORT_FORM = { authorizationUrl: '--authorization-url', scopes: '--scopes', method: '--method', scopeSeparator: '--scope-separator' } as const;

/** One of the four sources, from the options. @throws {UsageError} */
export function sourceOf(options: Source, file: string | undefined): BodyOf<'draftProvider'> {
  const given = [file, options.issuer, options.openapi, options.tokenUrl].filter((one) => one !== undefined);
  if (given.length !== 1)
    throw new UsageError('Give one of: --issuer ADDRESS, --openapi FILE_OR_ADDRESS, --token-url ADDRESS (the short form), or a definition file.');
  if (file !== undefined) {
    if (Object.keys(options).some((name) => name !== 'write'))
      throw new UsageError('A definition file is read as it is: change the file, and leave the other options out.');
    return { from: 'definition', document: readText(file) };
  }
  const short = Object.entries(SHORT_FORM).flatMap(([name, flag]) => (options[name as keyof typeof SHORT_FORM] === undefined ? [] : [flag]));
  if (options.tokenUrl === undefined && short.length > 0)
    throw new UsageError(`${short.join(', ')} can only be used with --token-url. Change these in the written definition instead.`);
  if (options.openapi !== undefined && options.apiCall !== undefined)
    throw new UsageError('--api-call cannot be used with --openapi: the document names the calls.');
  const shared = {
    authorization_parameters: options.authorizationParameter ?? {},
    token_parameters: options.tokenParameter ?? {},
    ...(options.name && { name: options.name }),
    ...(options.title && { title: options.title }),
  };
  if (options.issuer !== undefined) return { from: 'issuer', address: options.issuer, api_call: options.apiCall ?? '', ...shared };
  if (options.openapi !== undefined)
    return /^https?:\/\//.test(options.openapi)
      ? { from: 'openapi', address: options.openapi, ...shared }
      : { from: 'openapi', document: readText(options.openapi), ...shared };
  return {
    from: 'short_form',
    authorization_url: options.authorizationUrl ?? '',
    token_url: options.tokenUrl ?? '',
    api_call: options.apiCall ?? '',
    scopes: options.scopes ?? '',
    ...(options.method && { method: options.method }),
    ...(options.scopeSeparator && { scope_separator: options.scopeSeparator }),
    ...shared,
  };
}
