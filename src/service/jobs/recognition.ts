import type { z } from 'zod';
import type { Recognized } from '../../api/jobs.ts';
import { Fault } from '../../core/fault.ts';
import { at } from '../../core/json.ts';
import { columnsIn } from '../../core/output/format.ts';
import { readPage } from '../../core/paging/page.ts';
import { styleInWords } from '../../core/paging/plan.ts';
import { recognize } from '../../core/paging/recognize.ts';
import { callForPage, firstPosition } from '../../core/paging/request.ts';
import { addressOf, callableNow } from '../connections/index.ts';
import { fetchPage } from '../grants/index.ts';
import type { Command } from '../operation-call.ts';
import type { JobParts } from './parts.ts';
import { rangeOf, resolveCall } from './resolve.ts';

const SAMPLE = 20;
const DEADLINE_MS = 30_000;
const LIMIT_BYTES = 64_000_000;

/** Makes a call once, and shows how its list may be paged. @throws {Fault} as a call does; NO_LIST where the response holds none */
export async function recognizePaging(s: JobParts, { params, body }: Command<'recognizePaging'>): Promise<z.output<typeof Recognized>> {
  const { connection } = params;
  const resolved = await resolveCall(s, connection, body);
  const declared = body.paging ?? resolved.declared;
  const x = await callableNow(s, connection);
  const call = declared
    ? callForPage(declared, resolved.call, firstPosition(declared), declared.slice ? rangeOf(body, declared, s.ports.clock.now()) : null)
    : resolved.call;
  const address = addressOf(x, call);
  const what = { method: call.method, headers: call.headers, ...(call.body === null ? {} : { body: call.body }) };
  const fetched = await fetchPage(s, { grant: x.grant, address, what, about: x.about }, { deadlineMs: DEADLINE_MS, limitBytes: LIMIT_BYTES });
  if (fetched.kind === 'quota') throw new Fault('QUOTA_USED_UP', { retryAfterMs: fetched.waitMs });
  if (fetched.kind === 'none' || !fetched.isGood)
    throw new Fault('PAGE_FAILED', {
      detail: fetched.kind === 'none' ? `It did not answer (${fetched.reason}).` : `It answered ${fetched.status}.`,
      ...(fetched.diagnosis ? { remedy: fetched.diagnosis.remedy } : {}),
    });
  const document = parsed(fetched.body);
  const { headers } = fetched;
  const header = (name: string): string | undefined => headers[name];
  const found = recognize(
    { document, header, query: Object.fromEntries(new URL(address.url).searchParams), parameters: resolved.parameters },
    body.list_at === undefined ? undefined : body.list_at,
  );
  if (found.lists.length === 0) throw new Fault('NO_LIST', { detail: `The response to ${call.method} ${resolved.path} holds no list of records.` });
  const records = recordsIn(found, declared, document, header);
  const sample = records.slice(0, SAMPLE);
  return {
    declared,
    declared_by: body.paging ? 'request' : resolved.declaredBy,
    lists: found.lists,
    guesses: found.guesses.map((one) => ({ ...one, says: styleInWords(one.plan.style) })),
    sample,
    columns: columnsIn(sample).slice(0, 300),
  };
}

function recordsIn(
  found: ReturnType<typeof recognize>,
  declared: z.output<typeof Recognized>['declared'],
  document: unknown,
  header: (name: string) => string | undefined,
): unknown[] {
  const page = declared ? readPage(declared, document, header) : null;
  if (page !== null && typeof page !== 'string') return page.records;
  const items = found.guesses[0]?.plan.items;
  const list = items === undefined ? document : at(document, items);
  return Array.isArray(list) ? list : [];
}

/** @throws {Fault} NO_LIST */
function parsed(body: string): unknown {
  try {
    return JSON.parse(body);
  } catch {
    throw new Fault('NO_LIST', { detail: 'The response is not JSON.' });
  }
}
