/** The forms of a written result, and their media types. */
export const FORMATS = ['csv', 'ndjson', 'json'] as const;
export type Format = (typeof FORMATS)[number];
export const MEDIA_TYPES: Record<Format, string> = {
  csv: 'text/csv; charset=utf-8',
  ndjson: 'application/x-ndjson; charset=utf-8',
  json: 'application/json; charset=utf-8',
};
