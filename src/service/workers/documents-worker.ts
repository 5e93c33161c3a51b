import { readCurl } from '../../core/calls/curl.ts';
import { readHar } from '../../core/calls/har.ts';
import { readPkcs12 } from '../../core/certificates/pkcs12.ts';
import { Fault } from '../../core/fault.ts';
import { record, text as textOf } from '../../core/json.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { type Draft, type Named, nameFrom } from '../../core/provider/draft.ts';
import { fromMetadata } from '../../core/provider/from-metadata.ts';
import { fromOpenApi } from '../../core/provider/from-openapi.ts';
import { DEFINITION_LIMIT, definitionText, readDefinition, readPlainDocument } from '../../core/provider/read-definition.ts';
import { sortNotes } from '../../core/provider/shapes.ts';

/** Documents that someone else wrote are read here, in a thread that can be ended: nothing of the service waits for it. */
const TASKS = {
  definition: (text: string) => readDefinition(text),
  openApi({ text, from, limit, typed }: { text: string; from: string; limit: number; typed: Partial<Pick<Named, 'name' | 'title'>> }) {
    const document = readPlainDocument(text, limit, 'OPENAPI_WRONG');
    const title = typed.title ?? textOf(record(record(document).info).title) ?? 'Provider';
    return fromOpenApi(document, from, { name: typed.name ?? nameFrom(title), title: title.slice(0, 80), typed });
  },
  metadata: ({ text, expected, source, named }: { text: string; expected: string | null; source: string; named: Named }) =>
    fromMetadata(readJson(text, source), expected, source, named),
  /** A draft as text, and what is wrong with it. */
  draft(document: Draft['document']) {
    const text = definitionText(document);
    try {
      return { text, definition: readDefinition(text), wrong: [] };
    } catch (error) {
      if (!(error instanceof Fault)) throw error;
      const why = text.length > DEFINITION_LIMIT ? 'It has more operations than a definition holds; give a smaller document.' : error.message;
      return { text, definition: null, wrong: error.places.length > 0 ? error.places : [{ path: '(the whole file)', why }] };
    }
  },
  /** Files of a bundle as plain data; a text says why one cannot be read. */
  bundle: (files: { path: string; text: string }[]) =>
    files.map(({ path, text }) => {
      try {
        return { path, document: readPlainDocument(text, DEFINITION_LIMIT, 'DEFINITION_INVALID') };
      } catch (error) {
        if (!(error instanceof Fault)) throw error;
        return { path, why: error.detail ?? error.message };
      }
    }),
  notes: ({ definition, text }: { definition: ProviderDefinition; text: string }) => sortNotes(definition, text),
  /** Of a curl line or a HAR file; a text says why there are none. */
  calls: (text: string) => (text.trimStart().startsWith('{') ? readHar(text) : readCurl(text)),
  pkcs12({ base64, password }: { base64: string; password: string }) {
    return { pem: readPkcs12(base64, password).pem.reveal() };
  },
};

function readJson(text: string, source: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    throw new Fault('METADATA_WRONG', { detail: `${source} is not JSON.` });
  }
}

export type Tasks = typeof TASKS;
export type TaskResult = { done: unknown } | { fault: { code: Fault['code']; detail?: string | undefined; remedy: string; places: Fault['places'] } };

/** A Fault does not cross threads as what it is: it goes as data. */
export default async ({ task, input }: { task: keyof Tasks; input: unknown }): Promise<TaskResult> => {
  try {
    return { done: await (TASKS[task] as (input: unknown) => unknown)(input) };
  } catch (error) {
    if (!(error instanceof Fault)) throw error;
    return { fault: { code: error.code, detail: error.detail, remedy: error.remedy, places: error.places } };
  }
};
