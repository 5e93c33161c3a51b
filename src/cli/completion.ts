import type { CommandUnknownOpts } from '@commander-js/extra-typings';

export const SHELLS = ['bash', 'zsh', 'fish'] as const;
export type Shell = (typeof SHELLS)[number];

/** A command's path, and the words that may follow it. */
interface Place {
  path: string;
  words: { word: string; says: string }[];
}

/** Every place in the tree of commands. */
export function places(command: CommandUnknownOpts, path = ''): Place[] {
  const below = command.commands.map((one) => ({ word: one.name(), says: one.description() }));
  const options = command.options.filter((one) => one.long).map((one) => ({ word: one.long ?? '', says: one.description }));
  const choices = command.registeredArguments.flatMap((one) => one.argChoices ?? []).map((word) => ({ word, says: '' }));
  const here = { path, words: [...below, ...choices, ...options, { word: '--help', says: 'show help' }] };
  return [here, ...command.commands.flatMap((one) => places(one, path === '' ? one.name() : `${path} ${one.name()}`))];
}

/** In single quotes, for all three shells. */
const quoted = (text: string): string => `'${text.replaceAll("'", '\u2019')}'`;

/** For bash and zsh: a word that leads to a further place lengthens the path; options and their values do not. */
const pathStep = (all: readonly Place[]): string => {
  const known = all.filter((one) => one.path !== '').map((one) => quoted(one.path.includes(' ') ? one.path : ` ${one.path}`));
  return `    case "$word" in -*) ;; *) case "$path $word" in ${known.join('|')}) path="\${path:+$path }$word" ;; esac ;; esac`;
};

const bash = (all: readonly Place[]): string => `# Completion of rk for bash: source this file from ~/.bashrc
_rk() {
  local path='' word
  for word in "\${COMP_WORDS[@]:1:COMP_CWORD-1}"; do
${pathStep(all)}
  done
  case "$path" in
${all.map((one) => `    ${quoted(one.path)}) COMPREPLY=($(compgen -W ${quoted(one.words.map(({ word }) => word).join(' '))} -- "\${COMP_WORDS[COMP_CWORD]}")) ;;`).join('\n')}
  esac
}
complete -o default -F _rk rk
`;

const zsh = (all: readonly Place[]): string => `#compdef rk
# Completion of rk for zsh: source this file after compinit
_rk() {
  local -a entries
  local path='' word
  for word in \${words[2,CURRENT-1]}; do
${pathStep(all)}
  done
  case "$path" in
${all
  .map(
    (one) =>
      `    ${quoted(one.path)}) entries=(${one.words.map(({ word, says }) => quoted(says === '' ? word : `${word}:${says.replaceAll(':', '\\:')}`)).join(' ')}) ;;`,
  )
  .join('\n')}
  esac
  _describe 'rk' entries || _files
}
compdef _rk rk
`;

const fish = (all: readonly Place[]): string => `# Completion of rk for fish: put this file into ~/.config/fish/completions/rk.fish
function __rk_at
  set -l path
  for word in (commandline -opc)[2..-1]
    switch $word
      case '-*'
      case '*'
        set -a path $word
    end
  end
  test "$path" = "$argv"
end
${all
  .flatMap((one) =>
    one.words.map(({ word, says }) => {
      const what = word.startsWith('--') ? `-l ${word.slice(2)}` : `-f -a ${quoted(word)}`;
      return `complete -c rk -n ${quoted(`__rk_at ${one.path}`.trim())} ${what} -d ${quoted(says)}`;
    }),
  )
  .join('\n')}
`;

/** The script for a shell, made from the commands themselves. */
export function completionFor(shell: Shell, rk: CommandUnknownOpts): string {
  const all = places(rk);
  return { bash, zsh, fish }[shell](all);
}
