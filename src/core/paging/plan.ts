import { z } from 'zod';
import { jsonPointer, printable } from '../provider/web-address.ts';

/** How a provider cuts a list into pages. `keyset`: the next request names a field of the last record. `none`: one response holds all. */
const PAGING_STYLES = ['next_link', 'link_header', 'cursor', 'page_number', 'offset', 'keyset', 'none'] as const;
export type PagingStyle = (typeof PAGING_STYLES)[number];

/**
 * What shows that a page was the last. `short_page_at_total`: fewer records than the largest page, and the provider's total reached: neither
 * alone is enough where pages may be short in the middle or a total may be wrong.
 */
const PAGING_ENDS = ['no_next', 'empty_page', 'short_page', 'total_reached', 'short_page_at_total'] as const;
export type PagingEnd = (typeof PAGING_ENDS)[number];

const pointerOrName = printable(200);
/** Where paging stops at a cap: the list is cut by a date, and a slice is halved until it fits. */
const Slice = z.strictObject({
  from: printable(60).describe('The query parameter for the start of a slice'),
  to: printable(60).describe('The query parameter for its end'),
  format: z.enum(['date', 'datetime', 'seconds']).default('date').describe('date: YYYY-MM-DD; datetime: RFC 3339 in UTC; seconds: Unix time'),
  end: z.enum(['included', 'excluded']).default('included').describe('Whether a record at the end of a slice belongs to it'),
});
export type Slice = z.output<typeof Slice>;

const members = {
  style: z.enum(PAGING_STYLES),
  items: jsonPointer.optional().describe('Where the records stand; left out: the response is the list'),
  next: jsonPointer.optional().describe('Where the next link or cursor stands; keyset: the field of the last record'),
  next_header: z
    .string()
    .regex(/^[a-z0-9-]{1,60}$/)
    .optional()
    .describe('The response header with the cursor'),
  more: jsonPointer.optional().describe('Where a true or false shows whether more follows'),
  total: jsonPointer.optional().describe('Where the count of all records stands'),
  parameter: pointerOrName.optional().describe('The parameter for cursor, page, offset or key: a name, or a JSON pointer with in: body'),
  in: z.enum(['query', 'header', 'body']).optional().describe('Where the parameter is sent; left out: query'),
  size_parameter: pointerOrName.optional().describe('The parameter for the page size, sent in the same place'),
  size_most: z.number().int().min(1).max(100_000).optional().describe('The largest page size'),
  first: z.number().int().min(0).max(1).optional().describe('The number of the first page or record; left out: 1 for pages, 0 for records'),
  id: jsonPointer.optional().describe('The field of a record that identifies it; doubles are removed by it'),
  ends: z.array(z.enum(PAGING_ENDS)).min(1).max(5).optional().describe('What shows the last page; left out: what is usual for the style'),
  cap: z.number().int().min(1).max(10_000_000).optional().describe('At how many records paging stops, whatever follows'),
  slice: Slice.optional().describe('Date parameters by which the list is cut where the cap is met'),
};

/** As a definition states it: where it only describes a page, it may state less than is needed to follow it. */
export const DeclaredPaging = z.strictObject(members);
/** How a list is paged: stated in a definition per API and per operation, or recognized from a response and confirmed. */
export const PagingPlan = z.strictObject(members).superRefine((plan, context) => {
  for (const problem of planProblems(plan)) context.addIssue({ code: 'custom', path: [problem.member], message: problem.why });
});
export type PagingPlan = z.output<typeof PagingPlan>;

/** What a plan lacks to be followed; a definition may state less, where it only describes a page. */
export function planProblems(plan: Partial<Record<keyof typeof members, unknown>> & { style: PagingStyle }): { member: keyof typeof members; why: string }[] {
  const lacks: { member: keyof typeof members; why: string }[] = [];
  const need = (member: keyof typeof members, why: string) => plan[member] === undefined && lacks.push({ member, why });
  if (plan.style === 'next_link') need('next', 'A next link needs the pointer at which it stands, such as /next.');
  if (plan.style === 'cursor' && plan.next_header === undefined) need('next', 'A cursor needs the pointer or header at which it stands.');
  if (plan.style === 'keyset') need('next', 'A keyset needs the field of the last record, such as /id.');
  if (['cursor', 'page_number', 'offset', 'keyset'].includes(plan.style)) need('parameter', 'Name the parameter that asks for the next page.');
  if (plan.in === 'body' && typeof plan.parameter === 'string' && !plan.parameter.startsWith('/'))
    lacks.push({ member: 'parameter', why: 'With in: body, the parameter is a JSON pointer, such as /page.' });
  if (plan.slice !== undefined) need('cap', 'Slices need the cap at which paging stops.');
  return lacks;
}

/** What ends paging where the plan does not state it. */
export const endsOf = (plan: Pick<PagingPlan, 'style' | 'ends'>): readonly PagingEnd[] =>
  plan.ends ?? (['page_number', 'offset', 'keyset'].includes(plan.style) ? ['empty_page', 'short_page_at_total'] : ['no_next']);

const STYLE_WORDS: Record<PagingStyle, string> = {
  next_link: 'next link in the body',
  link_header: 'Link header (RFC 8288)',
  cursor: 'cursor',
  page_number: 'page number',
  offset: 'offset and limit',
  keyset: 'key of the last record',
  none: 'one page',
};
export const styleInWords = (style: PagingStyle): string => STYLE_WORDS[style];
