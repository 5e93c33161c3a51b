/** Names of 0.6: each keeps working for one version, and says what the new one is. */
const COMMANDS: Record<string, string> = {
  'connection take-over': 'connection import',
  'connection give-key': 'connection set-key',
  'connection forget': 'connection discard',
  'connection prove': 'connection verify',
  'connection live': 'connection lifetime',
  'connection agreement': 'connection admin-consent',
  'connection forget-call': 'connection delete-call',
  'client secret prove': 'client secret verify',
  'client notepad': 'client paste',
  'caller sheet': 'caller setup',
  history: 'activity list',
};

/** By today's name of the command. */
const OPTIONS: Record<string, Record<string, string>> = {
  call: { '--says': '--description' },
  'provider draft': { '--scope-delimiter': '--scope-separator' },
  'client secret add': { '--ends': '--expires' },
  'client secret change': { '--ends': '--expires' },
  'client certificate make': { '--ends': '--expires' },
  'client change': { '--asked-on': '--requested-on', '--asked-by': '--request-form', '--own-page': '--page', '--domains-there': '--domains' },
  'client request': { '--asked-on': '--requested-on' },
  'connection verify': { '--ability': '--capability' },
  standin: { '--life': '--token-lifetime' },
  token: { '--minimum-life': '--minimum-lifetime' },
};

const MOST_WORDS = 3;
/** Options before the noun that take a value. */
const WITH_VALUE = new Set(['--url', '--output']);

/** Arguments with former names replaced by today's, and a note for each. Values are left as they are. */
export function today(args: readonly string[]): { args: string[]; notes: string[] } {
  const words: number[] = [];
  for (let at = 0; at < args.length && words.length < MOST_WORDS; at += 1) {
    if (WITH_VALUE.has(args[at] ?? '')) at += 1;
    else if (!args[at]?.startsWith('-')) words.push(at);
  }
  const named = (count: number) => words.slice(0, count).map((at) => args[at] ?? '');
  const found = { args: [...args], notes: [] as string[] };
  const former = [3, 2, 1].map((count) => named(count).join(' ')).find((name) => Object.hasOwn(COMMANDS, name));
  if (former !== undefined) {
    const name = COMMANDS[former] ?? former;
    const first = words[0] ?? 0;
    const last = words[former.split(' ').length - 1] ?? first;
    found.args.splice(first, last - first + 1, ...name.split(' '));
    found.notes.push(`\`rk ${former}\` is now \`rk ${name}\`.`);
  }
  const command = [3, 2, 1]
    .map((count) =>
      words
        .slice(0, count)
        .map((at) => found.args[at] ?? '')
        .join(' '),
    )
    .find((name) => Object.hasOwn(OPTIONS, name));
  const renamed = command === undefined ? {} : (OPTIONS[command] ?? {});
  for (const [at, arg] of found.args.entries()) {
    const [flag = '', ...value] = arg.split('=');
    if (!Object.hasOwn(renamed, flag)) continue;
    found.args[at] = [renamed[flag] ?? flag, ...value].join('=');
    found.notes.push(`\`${flag}\` is now \`${renamed[flag]}\`.`);
  }
  return found;
}
