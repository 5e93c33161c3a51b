/** Names of 0.6 in definition files: each is still read in this version, and said to have a new one. */
interface Former {
  /** Where it stands: names of members from the top; `*` is any item of a list. */
  at: readonly string[];
  /** Members with their present names. */
  members?: Readonly<Record<string, string>>;
  /** Values of a member with their present words. */
  values?: Readonly<Record<string, Readonly<Record<string, string>>>>;
}

const ORGANIZATION = { organisation: 'organization' };
const GUIDE_MEMBERS = { look_alike: 'do_not_confuse', found_right_on: 'last_verified' };
const FORMER: readonly Former[] = [
  { at: ['dialect'], members: { scope_delimiter: 'scope_separator', organisation_agreement: 'admin_consent' } },
  { at: ['dialect', 'admin_consent'], members: { refused: 'rejected' } },
  { at: ['dialect', 'approval_check'], members: { given: 'approved', asked: 'requested', they_ask_back: 'info_requested', refused: 'rejected' } },
  { at: ['scopes', '*'], members: ORGANIZATION },
  { at: ['apis', '*', 'probes', '*'], members: { ability: 'capability' } },
  { at: ['apis', '*', 'probe'], members: { ability: 'capability' } },
  { at: ['guide', '*'], members: GUIDE_MEMBERS },
  { at: ['registration', 'form', '*'], values: { answer: ORGANIZATION } },
  { at: ['reach', '*'], values: { reach: ORGANIZATION } },
];

type Members = Record<string, unknown>;
const isMembers = (value: unknown): value is Members => typeof value === 'object' && value !== null && !Array.isArray(value);

/** All members at a place, each with its path in words. */
function found(value: unknown, at: readonly string[], path: string): { members: Members; path: string }[] {
  const [step, ...rest] = at;
  if (step === undefined) return isMembers(value) ? [{ members: value, path }] : [];
  if (step === '*') return Array.isArray(value) ? value.flatMap((item, n) => found(item, rest, `${path}.${n}`)) : [];
  return isMembers(value) && Object.hasOwn(value, step) ? found(value[step], rest, path === '' ? step : `${path}.${step}`) : [];
}

/**
 * Gives the members of a definition, as plain data, their present names; the data is changed in place. A member that stands under both names
 * is left alone, so that the reading names it.
 * @returns a note for each former name that was found
 */
export function withPresentNames(document: unknown): string[] {
  const notes = new Set<string>();
  for (const { at, members = {}, values = {} } of FORMER)
    for (const { members: holder } of found(document, at, '')) {
      for (const [former, present] of Object.entries(members)) {
        if (!Object.hasOwn(holder, former) || Object.hasOwn(holder, present)) continue;
        holder[present] = holder[former];
        delete holder[former];
        notes.add(`\`${former}\` is now \`${present}\`.`);
      }
      for (const [member, words] of Object.entries(values)) {
        const word = holder[member];
        if (typeof word !== 'string' || !Object.hasOwn(words, word)) continue;
        holder[member] = words[word];
        notes.add(`\`${member}: ${word}\` is now \`${member}: ${words[word]}\`.`);
      }
    }
  for (const { members } of found(document, ['guide', '*'], ''))
    for (const [name, said] of Object.entries(members)) if (typeof said === 'string') members[name] = said.replaceAll('{organisation}', '{organization}');
  return [...notes];
}
