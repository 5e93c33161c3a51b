import { type MaskableSaved, type MaskableSettings, maskedSaved, maskedSettings } from '../calls/secret-values.ts';
import { MASK } from '../calls/stored-values.ts';
import type { BundleKind, BundleObject } from './bundle.ts';

type Document = Record<string, unknown>;

/** In a bundle a whole address is one variable, not only what comes behind its host. */
const settingsOf = (settings: MaskableSettings): MaskableSettings => {
  const masked = maskedSettings(settings, MASK);
  return { ...masked, deliver: masked.deliver.map((target) => (target.url?.endsWith(MASK) ? { ...target, url: MASK } : target)) };
};

/** A document as a bundle may hold it, and as a comparison may show it: `(secret)` in place of each value, or part of one, that may be a secret. */
export function maskedDocument(kind: BundleKind, document: Document): Document {
  if (kind === 'connection') {
    const calls = Object.entries((document.calls ?? {}) as Record<string, MaskableSaved>);
    return { ...document, calls: Object.fromEntries(calls.map(([name, saved]) => [name, maskedSaved(saved, MASK)])) };
  }
  return kind === 'job' ? { ...document, settings: settingsOf(document.settings as MaskableSettings) } : document;
}

export const SECRET_VARIABLE = /^SECRET_[A-Z0-9_]+$/;

/**
 * In place of each `(secret)` a variable with a name of its own. Where it has no value, what the installation has stays.
 * @returns the names as well
 */
export function asVariables({ kind, name }: Pick<BundleObject, 'kind' | 'name'>, document: unknown): { document: unknown; names: string[] } {
  const names: string[] = [];
  const walk = (value: unknown, steps: readonly string[]): unknown => {
    if (typeof value === 'string') {
      let count = 0;
      return value.replaceAll(MASK, () => {
        count += 1;
        const parts = ['SECRET', kind, name, ...steps, ...(count > 1 ? [String(count)] : [])];
        const variable = parts.map((part) => part.toUpperCase().replace(/[^A-Z0-9]+/g, '_')).join('_');
        names.push(variable);
        return `\${${variable}}`;
      });
    }
    if (Array.isArray(value)) return value.map((one, at) => walk(one, [...steps, String(at)]));
    if (typeof value === 'object' && value !== null) return Object.fromEntries(Object.entries(value).map(([key, one]) => [key, walk(one, [...steps, key])]));
    return value;
  };
  return { document: walk(document, []), names };
}
