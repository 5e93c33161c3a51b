import type { z } from 'zod';
import { isProblem } from './is-problem.ts';
import type { ParamsOf } from './operation.ts';
import type { AnswerOf, BodyOf, OperationName, Operations } from './operations.ts';
import { operations } from './operations.ts';
import type { Problem } from './problem.ts';

/** A problem answer, thrown by the client. */
export class ProblemError extends Error {
  readonly problem: Problem;
  constructor(problem: Problem) {
    super(problem.detail ? `${problem.title} ${problem.detail}` : problem.title);
    this.name = 'ProblemError';
    this.problem = problem;
  }
}

/** What one call of an operation takes; the names of parameters are those of its path and of its query. */
export type CallInput<N extends OperationName> = {
  query?: Partial<Record<QueryNames<N>, string | number | undefined>>;
  body?: BodyOf<N>;
} & (keyof ParamsOf<Operations[N]['path']> extends never ? { params?: never } : { params: ParamsOf<Operations[N]['path']> });
type QueryNames<N extends OperationName> = Operations[N] extends { query: infer Q extends z.ZodType } ? keyof z.input<Q> : never;
type Optional<T> = Record<never, never> extends T ? [input?: T] : [input: T];

export interface ClientOptions {
  /** The service's address; empty in a browser that is on it. */
  baseUrl: string;
  token?: string;
  /** How long one call may take, in milliseconds. */
  deadlineMs?: number;
  fetch?: typeof fetch;
}

export type ApiClient = <N extends OperationName>(name: N, ...input: Optional<CallInput<N>>) => Promise<AnswerOf<N>>;

/** A typed client of the JSON API: one function, `call(operation, { params, query, body })`. @throws {ProblemError} */
export function apiClient(options: ClientOptions): ApiClient {
  const send = options.fetch ?? fetch;
  return async (name, ...[given]) => {
    const { method, path } = operations[name];
    const input: { params?: Record<string, string>; query?: Record<string, string | number | undefined>; body?: unknown } = given ?? {};
    const filled = path.replace(/\{(\w+)\}/g, (_whole, key: string) => encodeURIComponent(input.params?.[key] ?? ''));
    const query = new URLSearchParams(
      Object.entries(input.query ?? {}).flatMap(([key, value]) => (value === undefined ? [] : [[key, String(value)] as [string, string]])),
    );
    const headers: Record<string, string> = { accept: 'application/json' };
    if (input.body !== undefined) headers['content-type'] = 'application/json';
    if (options.token) headers.authorization = `Bearer ${options.token}`;
    let response: Response;
    try {
      response = await send(`${options.baseUrl}${filled}${query.size > 0 ? `?${query}` : ''}`, {
        method,
        headers,
        redirect: 'error',
        signal: AbortSignal.timeout(options.deadlineMs ?? 70_000),
        ...(input.body === undefined ? {} : { body: JSON.stringify(input.body) }),
      });
    } catch {
      throw new ProblemError(
        localProblem('SERVICE_UNREACHABLE', {
          title: 'The service does not answer.',
          detail: `It was requested at ${options.baseUrl || 'this address'}.`,
          remedy: 'Check that it runs, and the address.',
        }),
      );
    }
    const body: unknown = await response.json().catch(() => undefined);
    if (response.ok) return body as never;
    throw new ProblemError(
      isProblem(body)
        ? body
        : localProblem(
            'RESPONSE_INVALID',
            {
              title: 'The answer was not understood.',
              detail: `Status ${response.status}.`,
              remedy: 'Check that this is the address of a Rusty Kettle service.',
            },
            response.status,
          ),
    );
  };
}

const localProblem = (code: string, { title, detail, remedy }: { title: string; detail: string; remedy: string }, status = 503): Problem => ({
  type: 'about:blank',
  title,
  status,
  detail,
  remedy,
  code,
});
