/** Two answers to the same call, held against each other: status, kind, and JSON member by member. */
export interface AnswerSeen {
  status: number | null;
  content_type: string | null;
  body: string;
}

const MOST = 20;

export function compareAnswers(before: AnswerSeen, after: AnswerSeen): { same: boolean; differences: string[] } {
  const differences: string[] = [];
  if (before.status !== after.status) differences.push(`status: ${before.status ?? 'no answer'} before, ${after.status ?? 'no answer'} after`);
  const kind = (answer: AnswerSeen) => answer.content_type?.split(';')[0] ?? 'none';
  if (kind(before) !== kind(after)) differences.push(`content type: ${kind(before)} before, ${kind(after)} after`);
  const [one, other] = [parse(before.body), parse(after.body)];
  if (one === undefined || other === undefined) {
    if (before.body !== after.body) differences.push('the bodies differ, and are not JSON');
  } else walk('', one, other, differences);
  return { same: differences.length === 0, differences: differences.slice(0, MOST) };
}

function parse(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return undefined; // compared as text
  }
}

function walk(at: string, one: unknown, other: unknown, differences: string[]): void {
  if (differences.length > MOST) return;
  if (typeof one !== 'object' || one === null || typeof other !== 'object' || other === null) {
    if (one !== other) differences.push(`${at || '/'}: ${shown(one)} before, ${shown(other)} after`);
    return;
  }
  if (Array.isArray(one) !== Array.isArray(other)) return void differences.push(`${at || '/'}: a list on one side only`);
  if (Array.isArray(one) && Array.isArray(other) && one.length !== other.length)
    return void differences.push(`${at || '/'}: ${one.length} before, ${other.length} after`);
  for (const name of new Set([...Object.keys(one), ...Object.keys(other)]))
    walk(`${at}/${name}`, (one as Record<string, unknown>)[name], (other as Record<string, unknown>)[name], differences);
}

const shown = (value: unknown): string => (value === undefined ? 'nothing' : (JSON.stringify(value) ?? 'nothing').slice(0, 60));
