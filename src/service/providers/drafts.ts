import type { z } from 'zod';
import type { DraftedProvider, DraftProvider } from '../../api/providers.ts';
import { Fault } from '../../core/fault.ts';
import { reasonInWords } from '../../core/oauth/wire.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { type Draft, emptyDraft, nameFrom, put, readyLine } from '../../core/provider/draft.ts';
import { issuerOf, metadataAddresses } from '../../core/provider/from-metadata.ts';
import { fromShortForm, putParameters } from '../../core/provider/from-short-form.ts';
import { tidyAddress } from '../../core/provider/tidy.ts';
import { isWebAddress } from '../../core/provider/web-address.ts';
import type { Ports } from '../ports.ts';
import { askEndpoints } from './endpoints.ts';
import type { ProviderParts } from './parts.ts';

type Input = z.output<typeof DraftProvider>;
const DOCUMENT_LIMIT = 5_000_000;
const DOCUMENT_DEADLINE_MS = 15_000;
const MAX_REDIRECTS = 3;

/**
 * GETs a document someone named. Redirects are followed, three at most, each to an https address; that it is no private one is seen
 * to where names are resolved.
 */
async function fetchDocument(ports: Pick<Ports, 'send'>, address: string): Promise<{ text: string; from: string } | { why: string }> {
  let url = address;
  for (let hop = 0; hop <= MAX_REDIRECTS; hop += 1) {
    if (!isWebAddress(url)) return { why: `${url.slice(0, 200)} is no https address` };
    const answer = await ports.send({
      method: 'GET',
      url,
      headers: { accept: 'application/json, application/yaml;q=0.9, */*;q=0.1' },
      deadlineMs: DOCUMENT_DEADLINE_MS,
      limitBytes: DOCUMENT_LIMIT,
    });
    if (answer.kind !== 'answer') return { why: `${new URL(url).host}: ${reasonInWords(answer.reason)}` };
    const location = answer.headers.location;
    if (answer.status >= 300 && answer.status < 400 && location !== undefined) {
      if (!URL.canParse(location, url)) return { why: `${url} redirects to something that is no address` };
      url = new URL(location, url).href;
      continue;
    }
    if (answer.status !== 200) return { why: `${url} answered ${answer.status}` };
    if (answer.cut) return { why: `the document is larger than ${DOCUMENT_LIMIT / 1_000_000} MB` };
    return { text: answer.body, from: url };
  }
  return { why: `it redirects more than ${MAX_REDIRECTS} times` };
}

/** Metadata of an issuer, from one of its two well-known addresses, or from the very address that was given. @throws {Fault} */
async function draftFromIssuer(
  s: Pick<ProviderParts, 'ports' | 'documents'>,
  typed: string,
  named: { name?: string | undefined; title?: string | undefined },
): Promise<Draft> {
  const { value: address, changed } = tidyAddress(typed);
  if (!isWebAddress(address)) throw new Fault('INPUT_INVALID', { places: [{ path: 'address', why: 'It is no https address.' }] });
  const ofDocument = issuerOf(address);
  const tries = ofDocument === null ? metadataAddresses(address) : [address];
  const failed: string[] = [];
  for (const at of tries) {
    const got = await fetchDocument(s.ports, at);
    if ('why' in got) {
      failed.push(got.why);
      continue;
    }
    if (!/^\s*\{/.test(got.text)) {
      failed.push(`${at} is not JSON`);
      continue;
    }
    const title = named.title ?? nameFrom(address).replace(/^./, (first) => first.toUpperCase());
    const shown = { name: named.name ?? nameFrom(address), title, typed: { name: named.name, title: named.title } };
    const draft = await s.documents.read('metadata', { text: got.text, expected: ofDocument ?? address, source: at, named: shown });
    return { ...draft, tidied: changed, warnings: [...draft.warnings, ...(got.from === at ? [] : [`It was redirected to ${got.from}.`])] };
  }
  throw new Fault('DOCUMENT_UNREADABLE', {
    detail: `No metadata was found: ${failed.join('; ')}.`,
    remedy: 'Look for the issuer on the provider\u2019s pages; or use the short form: its authorization URL and token URL are enough.',
  });
}

async function draftFromOpenApi(s: Pick<ProviderParts, 'ports' | 'documents'>, input: Extract<Input, { from: 'openapi' }>): Promise<Draft> {
  const tidied = tidyAddress(input.address);
  const got = input.document ? { text: input.document, from: 'the document' } : await fetchDocument(s.ports, tidied.value);
  if ('why' in got) throw new Fault('DOCUMENT_UNREADABLE', { detail: `${got.why}.` });
  const typed = { ...(input.name === undefined ? {} : { name: input.name }), ...(input.title === undefined ? {} : { title: input.title }) };
  const { draft, metadataAddress } = await s.documents.read('openApi', { text: got.text, from: got.from, limit: DOCUMENT_LIMIT, typed });
  const named = { name: String(draft.document.name), title: String(draft.document.title) };
  const whole = { ...draft, tidied: [...(input.document ? [] : tidied.changed), ...draft.tidied] };
  if (metadataAddress === null) return whole;
  const metadata = await draftFromIssuer(s, metadataAddress, named).catch((error: unknown) => (error instanceof Fault ? error : Promise.reject(error)));
  if (metadata instanceof Fault)
    return { ...whole, warnings: [...whole.warnings, `Its openIdConnect scheme names ${metadataAddress}, which could not be used: ${metadata.message}`] };
  // What the metadata states of the server counts; the scopes of both are kept.
  for (const [path, source] of Object.entries(metadata.sources)) {
    const [head = '', tail] = path.split('.');
    const value = (metadata.document[head] as Record<string, unknown> | undefined)?.[tail ?? ''];
    if (head === 'server') put(whole, path, value, source);
  }
  if (metadata.document.identity) put(whole, 'identity', metadata.document.identity, metadata.sources.identity ?? '');
  const scopes = [whole.document.scopes, metadata.document.scopes].flatMap((list) => (Array.isArray(list) ? (list as { name: string }[]) : []));
  put(whole, 'scopes', [...new Map(scopes.reverse().map((scope) => [scope.name, scope])).values()].reverse(), `${got.from} and ${metadataAddress}`);
  return readyLine({ ...whole, warnings: whole.warnings });
}

/** A draft of a definition by one of the four ways in, with where every value came from. Nothing is saved. */
export async function draftProvider(s: ProviderParts, input: Input): Promise<DraftedProvider> {
  if (input.from === 'definition') return fromFile(s, input.document);
  const draft = await draftOf(s, input);
  if (input.from !== 'short_form') putParameters(draft, input);
  return present(s, draft);
}

async function draftOf(s: ProviderParts, input: Exclude<Input, { from: 'definition' }>): Promise<Draft> {
  switch (input.from) {
    case 'issuer': {
      const draft = await draftFromIssuer(s, input.address, input);
      if (!input.api_call) return draft;
      const form = fromShortForm(
        { authorization_url: '', token_url: '', api_call: input.api_call, scopes: '' },
        { name: String(draft.document.name), title: String(draft.document.title) },
      );
      put(draft, 'apis', form.document.apis, form.sources.apis ?? 'you');
      return readyLine({
        ...draft,
        tidied: [...draft.tidied, ...form.tidied.filter((said) => said.startsWith('API'))],
        warnings: draft.warnings.filter((said) => !said.startsWith('No API call')),
      });
    }
    case 'openapi':
      return draftFromOpenApi(s, input);
    case 'short_form': {
      const base = tidyAddress(input.token_url).value;
      const name = input.name ?? nameFrom(base);
      return fromShortForm(input, { name, title: input.title ?? name.replace(/^./, (first) => first.toUpperCase()), typed: input });
    }
    default:
      return input satisfies never;
  }
}

async function fromFile(s: ProviderParts, document: string): Promise<DraftedProvider> {
  const definition = await s.documents.read('definition', document);
  const draft: Draft = { ...emptyDraft(definition.name, definition.title), document: definition, sources: {} };
  const source = 'the file';
  for (const [name, value] of Object.entries(definition.server))
    if (typeof value === 'string' || Array.isArray(value)) draft.sources[`server.${name}`] = source;
  for (const path of ['name', 'title', 'scopes', 'apis', 'identity']) draft.sources[path] = source;
  return { ...(await present(s, readyLine(draft))), document };
}

const shown = (value: unknown): string => {
  if (typeof value === 'string') return value;
  if (Array.isArray(value)) {
    const names = value.map((one) => (typeof one === 'object' && one ? String((one as { name?: unknown }).name ?? '\u2026') : String(one)));
    return names.length > 12 ? `${names.slice(0, 12).join(', ')} and ${names.length - 12} more` : names.join(', ');
  }
  return JSON.stringify(value);
};

async function present(s: ProviderParts, draft: Draft): Promise<DraftedProvider> {
  const { text, definition, wrong } = await s.documents.read('draft', draft.document); // what is only missing is said by the ready line
  const valueAt = (path: string): unknown => path.split('.').reduce<unknown>((at, step) => (at as Record<string, unknown> | undefined)?.[step], draft.document);
  const server = draft.document.server as ProviderDefinition['server'] | undefined;
  return {
    document: text,
    ready: definition !== null && draft.missing.length === 0,
    missing: draft.missing,
    values: Object.entries(draft.sources).flatMap(([path, source]) =>
      valueAt(path) === undefined ? [] : [{ path, value: shown(valueAt(path)).slice(0, 400), source }],
    ),
    tidied: draft.tidied,
    warnings: draft.warnings,
    wrong: draft.missing.length > 0 ? wrong.filter((place) => !MISSING.has(place.path)) : wrong,
    endpoints: server ? await askEndpoints(s.ports, { server }) : [],
    exists: (await s.store.providers.byName(String(draft.document.name))) !== null,
  };
}

const MISSING = new Set(['server', 'server.token_endpoint', 'server.authorization_endpoint', 'apis']);
