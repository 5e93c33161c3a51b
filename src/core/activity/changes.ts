/** What a change of a record did, field by field: before and after. For the activity log: only fields that hold no secret are given. */
export type Changes = Record<string, { before: unknown; after: unknown }>;

const MAX_FIELDS = 40;
const MAX_TEXT = 500;

const shortened = (value: unknown): unknown => {
  const text = JSON.stringify(value ?? null);
  return text.length <= MAX_TEXT ? (value ?? null) : `${text.slice(0, MAX_TEXT - 1)}\u2026`;
};

/** The fields of `after` that differ from `before`. A field with bytes in it, sealed or hashed, shows only that it changed. */
export function changesOf(before: Readonly<Record<string, unknown>>, after: Readonly<Record<string, unknown>>): Changes {
  const found = Object.entries(after).filter(
    ([field, value]) => value !== undefined && JSON.stringify(before[field] ?? null) !== JSON.stringify(value ?? null),
  );
  return Object.fromEntries(
    found
      .slice(0, MAX_FIELDS)
      .map(([field, value]) =>
        value instanceof Uint8Array || before[field] instanceof Uint8Array
          ? [field, { before: '(sealed)', after: '(sealed)' }]
          : [field, { before: shortened(before[field]), after: shortened(value) }],
      ),
  );
}
