import { z } from 'zod';
import type { Pair } from './call.ts';
import { isDroppedHeader, type ReadCall } from './curl.ts';

const MAX_ENTRIES = 100;
const HarPair = z.object({ name: z.string(), value: z.string() });
const HarFile = z.object({
  log: z.object({
    entries: z
      .array(
        z.object({
          request: z.object({
            method: z.string(),
            url: z.string(),
            headers: z.array(HarPair).default([]),
            postData: z.object({ text: z.string().optional() }).optional(),
          }),
        }),
      )
      .min(1),
  }),
});

/** Reads the requests of a HAR 1.2 file; sign-ins and cookies are left out. A text: why it cannot be read. */
export function readHar(text: string): ReadCall[] | string {
  let document: unknown;
  try {
    document = JSON.parse(text);
  } catch {
    return 'It is no JSON.';
  }
  const read = HarFile.safeParse(document);
  if (!read.success) return 'It is no HAR file: there is no log.entries with requests.';
  return read.data.log.entries.slice(0, MAX_ENTRIES).map(({ request }) => {
    const headers = request.headers.filter((one) => !isDroppedHeader(one.name));
    const dropped = request.headers.some((one) => /^(authorization|cookie)$/i.test(one.name));
    return {
      url: request.url,
      call: { method: request.method.toUpperCase(), headers, body: request.postData?.text ?? null },
      leftOut: dropped ? ['the sign-in of whoever recorded it'] : [],
    };
  });
}

/** One exchange, masked already. */
export interface Exchange {
  method: string;
  url: string;
  startedAt: number;
  tookMs: number;
  request: { headers: Pair[]; body: string | null };
  answer: { status: number; headers: Pair[]; body: string; bodyBytes: number; contentType: string | null } | null;
}

/** An exchange as a HAR 1.2 document. */
export function harOf(exchange: Exchange, version: string): object {
  const { request, answer } = exchange;
  const type = (headers: Pair[]) => headers.find((one) => one.name.toLowerCase() === 'content-type')?.value ?? '';
  const query = URL.canParse(exchange.url) ? [...new URL(exchange.url).searchParams].map(([name, value]) => ({ name, value })) : [];
  return {
    log: {
      version: '1.2',
      creator: { name: 'Rusty Kettle', version },
      entries: [
        {
          startedDateTime: new Date(exchange.startedAt).toISOString(),
          time: exchange.tookMs,
          request: {
            method: exchange.method,
            url: exchange.url,
            httpVersion: 'HTTP/1.1',
            cookies: [],
            headers: request.headers,
            queryString: query,
            headersSize: -1,
            bodySize: request.body === null ? 0 : new TextEncoder().encode(request.body).length,
            ...(request.body === null ? {} : { postData: { mimeType: type(request.headers), text: request.body } }),
          },
          response: {
            status: answer?.status ?? 0,
            statusText: '',
            httpVersion: 'HTTP/1.1',
            cookies: [],
            headers: answer?.headers ?? [],
            content: { size: answer?.bodyBytes ?? 0, mimeType: answer?.contentType ?? '', text: answer?.body ?? '' },
            redirectURL: '',
            headersSize: -1,
            bodySize: answer?.bodyBytes ?? -1,
          },
          cache: {},
          timings: { send: 0, wait: exchange.tookMs, receive: 0 },
        },
      ],
    },
  };
}
