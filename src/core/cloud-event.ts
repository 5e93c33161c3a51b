/** An event by CloudEvents 1.0 (structured JSON). */
export interface CloudEvent extends Record<string, unknown> {
  specversion: '1.0';
  id: string;
  source: string;
  type: string;
  subject: string;
  time: string;
  datacontenttype: 'application/json';
  data: Record<string, unknown>;
}

/** @param of `at`: epoch ms */
export const cloudEvent = ({
  at,
  data,
  ...of
}: {
  id: string;
  source: string;
  type: string;
  subject: string;
  at: number;
  data: Record<string, unknown>;
}): CloudEvent => ({
  specversion: '1.0',
  ...of,
  time: new Date(at).toISOString(),
  datacontenttype: 'application/json',
  data,
});
