import { type ApiClient, apiClient, ProblemError } from '../../api/client.ts';
import type { Session } from '../../api/operators.ts';
import type { Problem } from '../../api/problem.ts';

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
    if (error instanceof ProblemError && error.problem.code === 'SIGN_IN_NEEDED') session.who = null;
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
