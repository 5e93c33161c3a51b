import type { AnswerOf } from '../../api/operations.ts';
import { one, type Part, type Shown, table, text } from '../show.ts';

const words = (name: string): string => name.replaceAll('_', ' ');
const WIDEST = 70;
const cut = (said: string): string => (said.length > WIDEST ? `${said.slice(0, WIDEST - 1)}\u2026` : said);

/** A draft: where every value came from, what was tidied, what is missing. */
export const draftParts = (drafted: AnswerOf<'draftProvider'>): Part[] => [
  table(drafted.values, { FIELD: (each) => each.path, VALUE: (each) => cut(each.value), SOURCE: (each) => cut(each.source) }, 'Nothing was found.'),
  text(
    [
      ...drafted.tidied.map((said) => `Tidied     ${said}`),
      ...drafted.warnings.map((said) => `Note       ${said}`),
      ...drafted.wrong.map((each) => `Wrong      ${each.path}: ${each.why}`),
      ...drafted.endpoints.map((each) => `${each.good ? 'Good' : 'Check'}      ${each.good ? ' ' : ''}${each.endpoint}: ${each.says}`),
      drafted.ready ? 'Ready      Nothing is missing.' : `Not ready  Missing: ${drafted.missing.join(', ') || 'the places named above'}.`,
    ].join('\n'),
  ),
];

export function shownProvider(provider: AnswerOf<'showProvider'>): Shown {
  const { definition: d } = provider;
  const { rotation, reuse, reuse_grace_seconds: grace } = d.dialect;
  return one(provider, [
    ['Name', provider.name],
    ['Title', provider.title],
    ['About', provider.about],
    ['Issuer', d.server.issuer],
    ['Authorization', d.server.authorization_endpoint],
    ['Token', d.server.token_endpoint],
    ['APIs', d.apis.map((api) => api.base_url).join('\n')],
    ['Variants', d.variants.map((each) => `${each.name}: ${each.title}${each.environments.length > 0 ? ` (${each.environments.join(', ')})` : ''}`).join('\n')],
    ['Placeholders', d.placeholders.map((each) => `${each.name} (entered at the ${each.level})`).join('\n')],
    ['Refresh tokens', `${words(rotation)}; a second use: ${words(reuse)}${grace ? ` of ${grace} s` : ''}`],
    ['Scopes', d.scopes.map((scope) => `${scope.name}: ${scope.says}`).join('\n')],
    ['Register at', d.registration.page],
    ['Missing', provider.ready.join(', ')],
    ['Version', String(provider.revision)],
    ['Clients', String(provider.clients)],
    ['Connections', String(provider.connections)],
  ]);
}

/** What a change of a definition means for clients and connections. */
export const previewParts = (preview: AnswerOf<'previewProvider'>): Part[] => [
  table(
    preview.changes,
    { FIELD: (each) => each.path, BEFORE: (each) => cut(each.from ?? '\u2013'), AFTER: (each) => cut(each.to ?? '\u2013') },
    'Nothing changes.',
  ),
  ...preview.effects.map((effect) => text(`${effect.client} (${effect.connections} connections)\n${effect.says.map((said) => `  ${said}`).join('\n')}`)),
];
