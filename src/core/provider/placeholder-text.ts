export const PLACEHOLDER = /\{([a-z][a-z0-9_]*)\}/g;
/** At which level a value is requested. */
export type PlaceholderLevel = 'client' | 'connection';
export type PlaceholderValues = Record<string, string>;

/** The names of the placeholders in a text, such as `region` in `https://id.{region}.berthline.example`. */
export const placeholdersIn = (text: string): string[] => [...text.matchAll(PLACEHOLDER)].map((match) => match[1] ?? '');

/** A text whose placeholders are filled with something harmless, so that its form can be checked. */
export const withSamples = (text: string): string => text.replace(PLACEHOLDER, 'sample');

/** The host of an address, with whatever placeholders it holds. */
export const hostPart = (address: string): string => /^[a-z]+:\/\/([^/:?#]+)/.exec(address)?.[1] ?? '';

/** True where a placeholder in the host is one whole label left of a fixed suffix of two labels: the host stays the provider's. */
export function isHostSafe(address: string): boolean {
  const labels = hostPart(address).split('.');
  const last = labels.findLastIndex((label) => label.includes('{'));
  return labels.every((label) => !label.includes('{') || /^\{[a-z][a-z0-9_]*\}$/.test(label)) && (last === -1 || labels.length - last > 2);
}
