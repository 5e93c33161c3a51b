import { isKey } from '../../core/oauth/grant-kinds.ts';
import { withStaticKey } from '../../core/provider/api.ts';
import { withApiBase } from '../../core/provider/api-base.ts';
import type { PlaceholderValues } from '../../core/provider/placeholders.ts';
import type { Definitions, DefinitionUse } from '../renewal/definitions.ts';

export interface ExtrasRow extends DefinitionUse {
  api_base_url: string | null;
  /** What the grant came from; a static key has a header of its own. */
  kind: string | null;
}

/**
 * What a caller of this connection must know besides the token: `base_url`, `header_name`, `header_word`, `placeholders`, where they
 * are not what every tool takes for granted. Worked out once for each different set-up: a caller may have a hundred thousand.
 */
export async function chooseHandoutExtras<R extends ExtrasRow>(rows: R[], definitions: Definitions): Promise<(row: R) => string> {
  const keyOf = (row: R) =>
    `${row.version_id.toString('hex')} ${row.environment} ${row.variant} ${row.rehearsal_port} ${row.placeholders} ${row.own_placeholders} ${row.api_base_url} ${row.kind === 'static_key'} ${row.trusted_origins}`;
  const texts = new Map<string, string>();
  for (const row of rows) {
    const key = keyOf(row);
    if (!texts.has(key)) texts.set(key, await extrasOf(row, definitions));
  }
  return (row) => texts.get(keyOf(row)) ?? '';
}

async function extrasOf(row: ExtrasRow, definitions: Definitions): Promise<string> {
  const values = { ...(JSON.parse(row.placeholders) as PlaceholderValues), ...(JSON.parse(row.own_placeholders ?? '{}') as PlaceholderValues) };
  const { definition, unconfirmed } = await definitions(row);
  const meets = withApiBase(definition, row.api_base_url);
  const [api] = (isKey(row.kind ?? '') ? withStaticKey(meets) : meets).apis;
  if (!api) return '';
  const members: Record<string, unknown> = {};
  const ownHeader = api.token_header !== 'authorization' || api.token_word !== 'Bearer';
  if (ownHeader) Object.assign(members, { header_name: api.token_header, header_word: api.token_word });
  if (Object.keys(values).length > 0) members.placeholders = values;
  if ((row.api_base_url !== null || Object.keys(values).length > 0) && unconfirmed.length === 0) members.base_url = api.base_url;
  const text = JSON.stringify(members).slice(1, -1);
  return text === '' ? '' : `,${text}`;
}
