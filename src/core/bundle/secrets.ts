import { maskedAddress, maskedCall, maskedParameters, maskedValues } from '../calls/secret-values.ts';
import { type BundleKind, type BundleObject, KEPT } from './bundle.ts';

type Document = Record<string, unknown>;
interface Call {
  path: string;
  query: { name: string; value: string }[];
  headers: { name: string; value: string }[];
  body: string | null;
}
type Saved = Document & { call: Call; parameters: Parameters<typeof maskedParameters>[0] };
type Settings = Document & { call?: Call; values?: Record<string, string>; deliver: (Document & { kind: string; url?: string })[] };

const savedOf = (saved: Saved): Saved => ({
  ...saved,
  call: maskedCall(saved.call, KEPT),
  parameters: maskedParameters(saved.parameters, saved.call, KEPT),
});
const settingsOf = (settings: Settings): Settings => ({
  ...settings,
  ...(settings.call ? { call: maskedCall(settings.call, KEPT) } : {}),
  ...(settings.values ? { values: maskedValues(settings.values, KEPT) } : {}),
  deliver: settings.deliver.map((target) => (target.url !== undefined && maskedAddress(target.url, KEPT) !== target.url ? { ...target, url: KEPT } : target)),
});

/** A document as a bundle may hold it, and as a comparison may show it: `(secret)` in place of each value, or part of one, that may be a secret. */
export function maskedDocument(kind: BundleKind, document: Document): Document {
  if (kind === 'connection') {
    const calls = Object.entries((document.calls ?? {}) as Record<string, Saved>);
    return { ...document, calls: Object.fromEntries(calls.map(([name, saved]) => [name, savedOf(saved)])) };
  }
  return kind === 'job' ? { ...document, settings: settingsOf(document.settings as Settings) } : document;
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
      return value.replaceAll(KEPT, () => {
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
