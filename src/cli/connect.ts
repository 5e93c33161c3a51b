import { existsSync, mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { homedir } from 'node:os';
import { dirname, join } from 'node:path';
import type { ApiClient } from '../api/client.ts';
import { EXIT, Outcome, UsageError } from './exit.ts';
import type { GlobalOptions } from './options.ts';

/** Where `rk sign-in` keeps the service's address and a session token; only its owner may read it. */
interface SignInFile {
  url: string;
  token: string;
  operator: string;
}

const folder = (): string => join(process.env.XDG_CONFIG_HOME ?? join(homedir(), '.config'), 'rusty-kettle');
const path = (): string => join(folder(), 'sign-in.json');
/** What shows the service that this operator signed in from here before: strangers' wrong passwords then do not slow them down. */
const devicesPath = (): string => join(folder(), 'devices.json');

function readSignIn(): SignInFile | null {
  if (!existsSync(path())) return null;
  try {
    return JSON.parse(readFileSync(path(), 'utf8')) as SignInFile;
  } catch {
    throw new UsageError(`${path()} is not readable as JSON. Remove it and sign in again.`);
  }
}

export function writeSignIn(file: SignInFile): void {
  mkdirSync(dirname(path()), { recursive: true, mode: 0o700 });
  rmSync(path(), { force: true });
  writeFileSync(path(), JSON.stringify(file), { mode: 0o600 });
}

function readDevices(): Record<string, string> {
  try {
    return JSON.parse(readFileSync(devicesPath(), 'utf8')) as Record<string, string>;
  } catch {
    return {}; // without it, a sign-in may only take longer
  }
}
const deviceKey = (url: string, operator: string): string => `${operator} at ${url}`;
export const readDevice = (url: string, operator: string): string | undefined => {
  const devices = readDevices();
  return Object.hasOwn(devices, deviceKey(url, operator)) ? devices[deviceKey(url, operator)] : undefined;
};
export function writeDevice(url: string, operator: string, device: string): void {
  const devices = { ...readDevices(), [deviceKey(url, operator)]: device };
  mkdirSync(folder(), { recursive: true, mode: 0o700 });
  writeFileSync(devicesPath(), JSON.stringify(devices), { mode: 0o600 });
}

export const removeSignIn = (): void => rmSync(path(), { force: true });

export const serviceUrl = (options: Pick<GlobalOptions, 'url'>): string =>
  (options.url ?? process.env.RUSTY_KETTLE_URL ?? readSignIn()?.url ?? 'http://127.0.0.1:7420').replace(/\/$/, '');

/** A client that is signed in. @throws {Outcome} when nobody is. */
export async function signedIn(options: GlobalOptions): Promise<ApiClient> {
  const url = serviceUrl(options);
  const { RUSTY_KETTLE_TOKEN: personal } = process.env;
  if (personal) return apiClientWith(url, personal);
  const file = readSignIn();
  if (!file || file.url !== url) throw new Outcome(EXIT.signIn, `You are not signed in at ${url}.\nWhat to do: run \`rk sign-in --url ${url}\`.`);
  const call = await apiClientWith(url, file.token);
  const { ProblemError } = await import('../api/client.ts');
  /** A sensitive action asks again who one is: then it is made once more. */
  return (async (name: never, ...input: never[]) => {
    const again = () => (call as (name: never, ...input: never[]) => Promise<unknown>)(name, ...input);
    try {
      return await again();
    } catch (error) {
      if (!(error instanceof ProblemError) || error.problem.code !== 'CONFIRMATION_NEEDED' || !process.stdin.isTTY) throw error;
      await confirmIdentity(call);
      return again();
    }
  }) as ApiClient;
}

async function apiClientWith(url: string, token: string): Promise<ApiClient> {
  const { apiClient } = await import('../api/client.ts');
  return apiClient({ baseUrl: url, token });
}

async function confirmIdentity(call: ApiClient): Promise<void> {
  const { secret } = await import('./ask.ts');
  process.stderr.write('This action is sensitive: confirm who you are.\n');
  const { password, methods } = await call('startConfirmation');
  await call('confirmIdentity', {
    body: {
      ...(password ? { password: await secret('Your password') } : {}),
      ...(methods.length > 0 ? { code: await secret('Code of your authenticator app, or a recovery code') } : {}),
    },
  });
}

export async function anonymous(options: GlobalOptions): Promise<ApiClient> {
  const { apiClient } = await import('../api/client.ts');
  return apiClient({ baseUrl: serviceUrl(options) });
}

/** Fetches a file from the service, as whoever is signed in. @throws {ProblemError} with the service's own words */
export async function download(options: Pick<GlobalOptions, 'url'>, path: string): Promise<ReadableStream<Uint8Array>> {
  const file = readSignIn();
  const { ProblemError } = await import('../api/client.ts');
  const { isProblem } = await import('../api/is-problem.ts');
  const response = await fetch(`${serviceUrl(options)}${path}`, {
    headers: { authorization: `Bearer ${process.env.RUSTY_KETTLE_TOKEN ?? file?.token ?? ''}` },
  });
  if (response.ok && response.body) return response.body;
  const answer: unknown = await response.json().catch(() => null);
  if (isProblem(answer)) throw new ProblemError(answer);
  throw new Outcome(EXIT.failed, `The service answered ${response.status}.`);
}
