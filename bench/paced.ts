import { once } from 'node:events';
import { connect, type Socket } from 'node:net';
import { setTimeout as sleep } from 'node:timers/promises';

/**
 * Requests at a fixed rate over connections that stay open. Each counts from the moment at which it was due, so that one that had to wait
 * for a free connection counts in full. Requests are bytes made beforehand and an answer is read up to its length and no further: a client
 * library would take half a core at the rates measured here, and its own queue would be part of the figure.
 */
interface Paced {
  url: string;
  requests: readonly Buffer[];
  /** Per second. */
  rate: number;
  seconds: number;
  /** Not counted. */
  warmUpMs: number;
  connections: number;
}

const TICK_MS = 1;
const ANSWER_LIMIT_MS = 10_000;
const END_OF_HEADER = '\r\n\r\n';

/** A POST as it goes over the wire (RFC 9112). */
export const postBytes = (url: string, path: string, headers: Record<string, string>, body: string): Buffer =>
  Buffer.from(
    [
      `POST ${path} HTTP/1.1`,
      `host: ${new URL(url).host}`,
      ...Object.entries(headers).map(([name, value]) => `${name}: ${value}`),
      `content-length: ${Buffer.byteLength(body)}`,
      '',
      body,
    ].join('\r\n'),
  );

/** One connection with at most one request under way. */
class Line {
  private readonly socket: Socket;
  private read = '';
  private done: ((error?: Error) => void) | null = null;

  constructor(port: number) {
    this.socket = connect({ port, host: '127.0.0.1', noDelay: true });
    this.socket.setEncoding('latin1');
    this.socket.setTimeout(ANSWER_LIMIT_MS, () => this.done && this.socket.destroy(new Error('no answer within 10 s')));
    this.socket.on('data', (part: string) => this.add(part));
    this.socket.on('error', (error) => this.finish(error));
    this.socket.on('close', () => this.finish(new Error('the connection was closed')));
  }
  ready(): Promise<unknown> {
    return once(this.socket, 'connect');
  }
  send(bytes: Buffer, done: (error?: Error) => void): void {
    this.done = done;
    this.socket.write(bytes);
  }
  close(): void {
    this.socket.destroy();
  }

  private add(part: string): void {
    this.read += part;
    const headerEnd = this.read.indexOf(END_OF_HEADER);
    if (headerEnd < 0) return;
    const length = /\r\ncontent-length: (\d+)/i.exec(this.read)?.[1];
    if (!this.read.startsWith('HTTP/1.1 200') || length === undefined) return this.finish(new Error(`an answer was not 200 with a length: ${this.read}`));
    if (this.read.length < headerEnd + END_OF_HEADER.length + Number(length)) return;
    this.read = '';
    this.finish();
  }
  private finish(error?: Error): void {
    const done = this.done;
    this.done = null;
    done?.(error);
  }
}

/**
 * The time within which 99 of 100 requests were answered, in ms.
 * @throws Error where one was rejected, broke off, or had no answer within 10 s
 */
export async function pacedP99({ url, requests, rate, seconds, warmUpMs, connections }: Paced): Promise<number> {
  const free = Array.from({ length: connections }, () => new Line(Number(new URL(url).port)));
  const lines = [...free];
  await Promise.all(lines.map((line) => line.ready()));
  const total = Math.floor(rate * (warmUpMs / 1000 + seconds));
  const took: number[] = [];
  let [due, sent, answered] = [0, 0, 0];
  let failure: Error | undefined;
  const startedAt = performance.now();
  const dueAt = (at: number) => startedAt + (at / rate) * 1000;
  const fill = (): void => {
    while (sent < due && free.length > 0) {
      const [at, line] = [sent++, free.pop() as Line];
      line.send(requests[at % requests.length] as Buffer, (error) => {
        failure ??= error;
        answered += 1;
        if (dueAt(at) > startedAt + warmUpMs) took.push(performance.now() - dueAt(at));
        free.push(line);
        fill();
      });
    }
  };
  const endsAt = dueAt(total) + ANSWER_LIMIT_MS;
  while (answered < total && !failure && performance.now() < endsAt) {
    due = Math.min(total, Math.ceil(((performance.now() - startedAt) / 1000) * rate));
    fill();
    await sleep(TICK_MS);
  }
  for (const line of lines) line.close();
  if (failure) throw failure;
  if (answered < total) throw new Error(`${total - answered} of ${total} requests had no answer 10 s after the last was due`);
  return took.sort((a, b) => a - b)[Math.floor(took.length * 0.99)] ?? 0;
}
