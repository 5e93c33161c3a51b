import { Fault } from '../fault.ts';
import { own } from '../json.ts';
import { addressesOf } from './addresses.ts';
import type { ProviderDefinition } from './definition.ts';
import { fitsPattern } from './pattern.ts';
import { hostPart, PLACEHOLDER, type PlaceholderLevel, type PlaceholderValues, placeholdersIn } from './placeholder-text.ts';
import { matchTemplate, templateOf } from './template.ts';

/** What may stand in an address, whatever the definition's own pattern says: nothing that ends a host, a path segment or a query. */
const IN_HOST = /^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$/;
const IN_ADDRESS = /^[A-Za-z0-9_~-]+(\.[A-Za-z0-9_~-]+)*$/;
const ANYWHERE = /^[\x20-\x7e]{1,200}$/;

/** What is wrong with a value, in words, or null. */
function whyWrong(definition: ProviderDefinition, name: string, value: string | undefined): string | null {
  const one = definition.placeholders.find((placeholder) => placeholder.name === name);
  if (!one) return 'The definition has no such placeholder.';
  if (value === undefined || value === '')
    return one.choices.length > 0
      ? `Choose one of: ${one.choices.map((choice) => choice.value).join(', ')}.`
      : `Give the ${one.title}${one.example ? `, such as ${one.example}` : ''}.`;
  if (one.choices.length > 0)
    return one.choices.some((choice) => choice.value === value) ? null : `Choose one of: ${one.choices.map((choice) => choice.value).join(', ')}.`;
  if (!ANYWHERE.test(value)) return 'Printable ASCII, at most 200 characters.';
  if (one.pattern && !fitsPattern(one.pattern, value)) return `It does not look like a ${one.title}${one.example ? `, such as ${one.example}` : ''}.`;
  const addresses = addressesOf(definition).map((address) => address.value);
  if (addresses.some((address) => placeholdersIn(hostPart(address)).includes(name)) && !IN_HOST.test(value))
    return 'It becomes part of a host name: lower-case letters, digits and hyphens, nothing else.';
  if (addresses.some((address) => placeholdersIn(address).includes(name)) && !IN_ADDRESS.test(value))
    return 'It becomes part of an address: letters, digits, and . _ ~ - between them, nothing else.';
  return null;
}

/**
 * Checks the values requested at these levels: all of them there, none unknown, each of its shape.
 * @throws {Fault} INPUT_INVALID with each place.
 */
export function checkPlaceholders(definition: ProviderDefinition, values: PlaceholderValues, levels: readonly PlaceholderLevel[]): void {
  const asked = definition.placeholders.filter((one) => levels.includes(one.level)).map((one) => one.name);
  const names = [...new Set([...asked, ...Object.keys(values)])];
  const places = names.flatMap((name) => {
    const why = asked.includes(name) ? whyWrong(definition, name, own(values, name)) : elsewhere(definition, name);
    return why === null ? [] : [{ path: `placeholders.${name}`, why }];
  });
  if (places.length > 0) throw new Fault('INPUT_INVALID', { detail: `${definition.title} asks here for: ${asked.join(', ') || 'no placeholders'}.`, places });
}

const elsewhere = (definition: ProviderDefinition, name: string): string => {
  const one = definition.placeholders.find((placeholder) => placeholder.name === name);
  return one ? `The ${one.title} is requested at the ${one.level}.` : 'The definition has no such placeholder.';
};

/** Fills what is known; what is not stays as {name}. The values were checked before they were stored. */
export function fillKnown(definition: ProviderDefinition, values: PlaceholderValues): ProviderDefinition {
  if (definition.placeholders.length === 0) return definition;
  const known = new Map(Object.entries(values).filter(([name, value]) => whyWrong(definition, name, value) === null));
  const fill = (value: unknown): unknown => {
    if (typeof value === 'string') return value.replace(PLACEHOLDER, (all, name: string) => known.get(name) ?? all);
    if (Array.isArray(value)) return value.map(fill);
    if (value && typeof value === 'object') return Object.fromEntries(Object.entries(value).map(([name, member]) => [name, fill(member)]));
    return value;
  };
  const { server, apis, identity, registration, dialect } = definition;
  const filled = fill({
    server,
    identity,
    registration,
    apis: apis.map(({ base_url, headers, session }) => ({ base_url, headers, session })),
    dialect: {
      token_parameters: dialect.token_parameters,
      authorization_parameters: dialect.authorization_parameters,
      token_headers: dialect.token_headers,
      revocation: dialect.revocation,
      resource: dialect.resource,
      admin_consent: dialect.admin_consent,
    },
  }) as Pick<ProviderDefinition, 'server' | 'identity' | 'registration'> & {
    apis: { base_url: string; headers: Record<string, string> }[];
    dialect: Partial<ProviderDefinition['dialect']>;
  };
  return { ...definition, ...filled, apis: apis.map((api, at) => ({ ...api, ...filled.apis[at] })), dialect: { ...dialect, ...filled.dialect } };
}

/** The definition with all of a connection's values in it. @throws {Fault} INPUT_INVALID where one is missing or wrong. */
export function composeDefinition(definition: ProviderDefinition, values: PlaceholderValues): ProviderDefinition {
  checkPlaceholders(definition, values, ['client', 'connection']);
  return fillKnown(definition, values);
}

/** Every combination of choices, and the example where any value is taken: what a stand-in serves. */
export function everyChoice(definition: ProviderDefinition): PlaceholderValues[] {
  return definition.placeholders.reduce<PlaceholderValues[]>(
    (all, one) =>
      all.flatMap((values) =>
        (one.choices.length > 0 ? one.choices.map((choice) => choice.value) : [one.example ?? 'sample']).map((value) => ({ ...values, [one.name]: value })),
      ),
    [{}],
  );
}

/**
 * Placeholder values read from the address of any of the provider's pages: each address of the definition is tried as a template.
 * Only values that would be taken are given back.
 */
export function placeholdersFrom(definition: ProviderDefinition, pageAddress: string): PlaceholderValues {
  const found: PlaceholderValues = {};
  const all = [...definition.placeholders.flatMap((one) => one.pages), ...addressesOf(definition).map((one) => one.value)].map((template) => {
    const [, origin = '', path = ''] = /^([a-z]+:\/\/[^/?#]+)([^?#]*)/.exec(template) ?? [];
    const segments = path.split('/').slice(1);
    // The host and as many leading path segments as hold placeholders must fit; what comes after is free.
    return [origin, ...segments.slice(0, segments.findLastIndex((segment) => segment.includes('{')) + 1)].join('/');
  });
  // The one that says most about the address counts: `pages.desk.example/t/{tenant}` before `{tenant}.desk.example`.
  for (const wanted of all.sort((a, b) => b.replace(PLACEHOLDER, '').length - a.replace(PLACEHOLDER, '').length)) {
    if (!wanted.includes('{')) continue;
    const match = matchAddress(wanted, pageAddress);
    for (const [name, value] of match) if (found[name] === undefined && whyWrong(definition, name, value) === null) found[name] = value;
  }
  return found;
}

const MAX_PAGE = 4_000;
/** Names and values where the page begins as the wanted address does, label by label and segment by segment; else none. */
function matchAddress(wanted: string, page: string): [string, string][] {
  if (page.length > MAX_PAGE) return [];
  const cut = (address: string): { scheme: string; labels: string[]; segments: string[] } => {
    const [, scheme = '', host = '', path = ''] = /^([a-z]+:)\/\/([^/?#:]*)(?::\d+)?([^?#]*)/i.exec(address) ?? [];
    return { scheme: scheme.toLowerCase(), labels: host.split('.'), segments: path === '' ? [] : path.split('/').slice(1) };
  };
  const [ours, theirs] = [cut(wanted), cut(page)];
  if (ours.scheme !== theirs.scheme || ours.labels.length !== theirs.labels.length || ours.segments.length > theirs.segments.length) return [];
  const pairs: [string, string][] = [];
  const parts = [...ours.labels.map((label, at) => [label, theirs.labels[at]]), ...ours.segments.map((segment, at) => [segment, theirs.segments[at]])];
  for (const [template = '', text = ''] of parts) {
    const { names } = templateOf(template);
    const values = names.length === 0 ? (template.toLowerCase() === text.toLowerCase() ? [] : null) : matchTemplate(templateOf(template), text);
    if (values === null) return [];
    names.forEach((name, at) => {
      const value = values[at] as string;
      if (/^[^/?#:@.]+$/.test(value)) pairs.push([name, value]);
    });
  }
  return pairs;
}
