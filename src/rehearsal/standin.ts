import type { RunningStandin } from '../standins/main.ts';

const DEADLINE_MS = 10_000;

/** Gives orders to a simulated provider. */
export class Standin {
  readonly #port: number;
  constructor(running: RunningStandin | undefined) {
    if (!running) throw new Error('Its provider is not rehearsed.');
    this.#port = running.port;
  }
  async order<T = unknown>(path: string, body?: object): Promise<T> {
    const response = await fetch(`http://127.0.0.1:${this.#port}/standin/${path}`, {
      method: body ? 'POST' : 'DELETE',
      signal: AbortSignal.timeout(DEADLINE_MS),
      ...(body ? { headers: { 'content-type': 'application/json' }, body: JSON.stringify(body) } : {}),
    });
    const answer = (await response.json()) as T & { error?: string };
    if (!response.ok) throw new Error(`The simulated provider refused: ${answer.error ?? response.status}.`);
    return answer;
  }
}
