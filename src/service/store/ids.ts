/** A value in a statement: instants go as text in UTC, ids as 16 bytes. */
export type Bind = string | number | boolean | null | Buffer;

/** A UUID as the 16 bytes in which ids are stored. */
export const idBytes = (id: string): Buffer => Buffer.from(id.replaceAll('-', ''), 'hex');

export const idText = (bytes: Uint8Array): string => {
  const hex = Buffer.from(bytes).toString('hex');
  // Joined, not a template: a template keeps its parts beside it, which counts where two hundred thousand ids are kept.
  return [hex.slice(0, 8), hex.slice(8, 12), hex.slice(12, 16), hex.slice(16, 20), hex.slice(20)].join('-');
};
