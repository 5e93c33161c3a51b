import { namesInWords } from '../../api/caller-words.ts';
import type { Caller, NewKey, SetupInstructions } from '../../api/callers.ts';
import { counted } from '../../api/vocabulary.ts';
import { relative } from '../print.ts';
import { one, type Part, type Shown, table, text } from '../show.ts';

/** The one place where a key is shown: once, when it was just made. */
export const shownKey = (made: NewKey): Shown =>
  one(made, [
    ['Caller', made.caller],
    ['Token URL', made.token_url],
    ['Client id', made.caller_id],
    ['Client secret', made.key],
    ['Resource', made.resources.join('\n')],
    ['Note', 'The key is shown only once. Give these to the integration.'],
  ]);

export const inUse = (key: Caller['keys'][number]): boolean => key.retired_at === null || Date.parse(key.retired_at) > Date.now();

export const shownCaller = (c: Caller): Shown =>
  one(c, [
    ['Caller', c.name],
    ['Title', c.title],
    ['Client id', c.caller_id],
    ['Token URL', c.token_url],
    ['Permissions', c.permissions.map(permissionLine).join('\n') || 'none yet'],
    ['Token path', c.token_path],
    ['Redirect URIs', c.redirect_uris.join('\n')],
    ['Keeps no secret', c.keeps_no_secret ? 'yes: at the sign-in for tools, PKCE alone identifies it' : null],
    ['Keys', c.keys.map(keyLine).join('\n')],
    [
      'Without a secret',
      c.identities.map((one) => `${one.says} (${one.last_used_at ? `last used ${relative(one.last_used_at)}` : 'never used'}) ${one.id}`).join('\n'),
    ],
    [
      'Signed in',
      c.signed_in
        .filter((tool) => tool.ended_at === null)
        .map((tool) => `${tool.connection}, by ${tool.operator} ${relative(tool.signed_in_at)}, last used ${relative(tool.last_used_at)} ${tool.id}`)
        .join('\n'),
    ],
    ['Last hour', `${counted(c.tokens_last_hour, 'token')}, ${c.relayed_last_hour} relayed, ${c.refused_last_hour} rejected`],
    ['Last day', c.uses.map(useLine).join('\n') || 'not used: nothing stops if you remove it'],
  ]);

const permissionLine = (may: Caller['permissions'][number]): string =>
  `${may.connection ?? `label ${may.label} (${namesInWords(may.covers, may.covers_total) || 'no connection has it'})`}: ${may.says}`;

const keyLine = (key: Caller['keys'][number]): string => {
  const ends = key.retired_at ? `, expires ${relative(key.retired_at)}` : '';
  return `${key.starts}\u2026 ${key.label} (${inUse(key) ? `last used ${relative(key.last_used_at)}${ends}` : `retired ${relative(key.retired_at)}`}) ${key.id}`;
};

const useLine = (use: Caller['uses'][number]): string =>
  `${use.connection}: ${counted(use.tokens, 'token')}, ${use.relayed} relayed, ${use.refused} rejected, last ${relative(use.last_at)}${relayLines(use.relay)}`;

/** Counts by class of status, and the last call that failed with its verdict. */
function relayLines(relay: Caller['uses'][number]['relay']): string {
  if (!relay) return '';
  const counts = Object.entries(relay.by_class)
    .sort()
    .map(([group, count]) => `${group === 'none' ? 'no answer' : group}: ${count}`)
    .join(', ');
  const { last_failed: failed } = relay;
  return `\n  relayed: ${counts}${failed ? `\n  ${failed.status ?? 'no answer'} ${failed.method} ${failed.path} ${relative(failed.at)}: ${failed.says ?? ''} ${failed.remedy ?? ''}`.trimEnd() : ''}`;
}

/** What to paste into one kind of tool. */
export function setupParts(way: SetupInstructions): Part[] {
  const head = [`${way.title}: ${way.fits}`, ...way.missing.map((missing) => `  first: ${missing}`), ...(way.weaker ? [`  weaker: ${way.weaker}`] : [])];
  return [
    text(head.join('\n')),
    text(way.steps.map((step, at) => `  ${at + 1}. ${step}`).join('\n')),
    ...(way.boxes.length > 0
      ? [table(way.boxes, { FIELD: (one) => one.box, VALUE: (one) => (one.as === 'value' ? one.value : `(${one.value})`), NOTE: (one) => one.note }, '')]
      : []),
    ...(way.text ? [text(way.text)] : []),
  ];
}
