import { Fault } from '../fault.ts';
import type { ProviderDefinition } from './definition.ts';

const PLACEHOLDER = /\{([a-z][a-z0-9_]*)\}/g;

/** The names of the placeholders in a text, such as `region` in `https://id.{region}.berthline.example`. */
export const placeholdersIn = (text: string): string[] => [...text.matchAll(PLACEHOLDER)].map((match) => match[1] ?? '');

/** A text whose placeholders are filled with something harmless, so that its form can be checked. */
export const withSamples = (text: string): string => text.replace(PLACEHOLDER, 'sample');

/** True where a placeholder in the host is one whole label left of a fixed suffix of two labels: the host stays the provider's. */
export function isHostSafe(address: string): boolean {
  const host = /^[a-z]+:\/\/([^/:]+)/.exec(address)?.[1] ?? '';
  const labels = host.split('.');
  const last = labels.findLastIndex((label) => label.includes('{'));
  return labels.every((label) => !label.includes('{') || /^\{[a-z][a-z0-9_]*\}$/.test(label)) && (last === -1 || labels.length - last > 2);
}

/**
 * The definition with a client's values in its addresses. @throws {Fault} INPUT_INVALID where a value is missing, or is not one of the
 * choices.
 */
export function composeDefinition(definition: ProviderDefinition, values: Record<string, string>): ProviderDefinition {
  const wrong = definition.placeholders.filter((one) => !one.choices.some((choice) => choice.value === values[one.name]));
  const unknown = Object.keys(values).filter((name) => !definition.placeholders.some((one) => one.name === name));
  if (wrong.length > 0 || unknown.length > 0)
    throw new Fault('INPUT_INVALID', {
      detail: `${definition.title} needs ${definition.placeholders.map((one) => one.name).join(', ') || 'no placeholders'}.`,
      places: [
        ...wrong.map((one) => ({ path: `placeholders.${one.name}`, why: `Choose one of: ${one.choices.map((choice) => choice.value).join(', ')}.` })),
        ...unknown.map((name) => ({ path: `placeholders.${name}`, why: 'The definition has no such placeholder.' })),
      ],
    });
  if (definition.placeholders.length === 0) return definition;
  const fill = (value: unknown): unknown => {
    if (typeof value === 'string') return value.replace(PLACEHOLDER, (all, name: string) => values[name] ?? all);
    if (Array.isArray(value)) return value.map(fill);
    if (value && typeof value === 'object') return Object.fromEntries(Object.entries(value).map(([name, member]) => [name, fill(member)]));
    return value;
  };
  const { server, apis, identity, registration } = definition;
  return { ...definition, ...(fill({ server, apis, identity, registration }) as Pick<ProviderDefinition, 'server' | 'apis' | 'identity' | 'registration'>) };
}

/** Every combination of choices: what a stand-in serves. */
export function everyChoice(definition: ProviderDefinition): Record<string, string>[] {
  return definition.placeholders.reduce<Record<string, string>[]>(
    (all, one) => all.flatMap((values) => one.choices.map((choice) => ({ ...values, [one.name]: choice.value }))),
    [{}],
  );
}
