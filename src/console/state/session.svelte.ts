import { type ApiClient, apiClient, ProblemError } from '../../api/client.ts';
import type { OperationName } from '../../api/operations.ts';
import type { Session } from '../../api/operators.ts';
import type { Problem } from '../../api/problem.ts';
import { confirming } from './confirming.svelte.ts';

const service = apiClient({ baseUrl: '' });

/** Who is signed in. `unknown` until the service was asked. */
class SessionState {
  who = $state.raw<Session | null | 'unknown'>('unknown');

  async ask(): Promise<void> {
    try {
      this.who = await service('showSession');
    } catch (error) {
      if (error instanceof ProblemError && error.problem.status === 401) this.who = null;
    }
  }

  async signIn(name: string, password: string): Promise<void> {
    this.who = await service('signIn', { body: { name, password, keeps: 'cookie' } });
  }

  async finishSignIn(proof: { ticket: string; code?: string; passkey?: Record<string, unknown> }): Promise<void> {
    this.who = await service('finishSignIn', { body: proof });
  }

  /** Whether the account may call this; what it names is checked by the service. */
  may(name: OperationName): boolean {
    return typeof this.who !== 'object' || !this.who?.refused.includes(name);
  }

  /** Asks who one is, for what the browser does without `call`. */
  confirm(): Promise<boolean> {
    return confirming.ask();
  }

  async signOut(): Promise<void> {
    await service('signOut');
    this.who = null;
  }
}

export const session = new SessionState();

/** The API, and a way back to the sign-in when the session has ended. */
export const call: ApiClient = async (name, ...input) => {
  try {
    return await service(name, ...input);
  } catch (error) {
    const code = error instanceof ProblemError ? error.problem.code : '';
    if (code === 'SIGN_IN_NEEDED') session.who = null;
    if (code === 'CONFIRMATION_NEEDED' && (await confirming.ask())) return service(name, ...input);
    throw error;
  }
};

/** Any failure as a problem that can be shown. */
export const problemOf = (error: unknown): Problem =>
  error instanceof ProblemError
    ? error.problem
    : {
        type: 'about:blank',
        title: 'The console stumbled.',
        status: 500,
        detail: error instanceof Error ? error.message : '',
        remedy: 'Load the page again.',
        code: 'CONSOLE',
      };
