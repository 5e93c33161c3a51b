import type { z } from 'zod';
import type { SortedNotes } from '../../api/clients.ts';
import { compareRedirectUris } from '../../core/oauth/redirect-uri.ts';
import { readDay } from '../../core/provider/note-pairs.ts';
import { fieldName, type SortedItem } from '../../core/provider/shapes.ts';
import { tidyScopes } from '../../core/provider/tidy.ts';
import { iso } from '../iso.ts';
import type { Command } from '../operation-call.ts';
import { changeClient, checkRedirectUri, findClient } from './clients.ts';
import type { ClientParts } from './parts.ts';
import { addSecret, changeSecret } from './secrets.ts';

const OWN_NAMES: Record<string, string> = { scopes: 'scopes', redirect_uri: 'redirect URI at the provider', secret_ends: 'expiration date of the secret' };

function whyOf(item: SortedItem, ours: string): string {
  if (item.field === 'redirect_uri') {
    const verdict = compareRedirectUris(ours, item.value);
    return verdict.kind === 'same' ? 'the same as ours' : verdict.says;
  }
  if (item.field === 'secret_ends' && readDay(item.value) === null) return 'ambiguous date: enter it manually';
  return item.why;
}

/** Sorts pasted notes into the fields, and saves what was found where that is requested. The secret is sealed, never shown back. */
export async function sortNotes(s: ClientParts, { params, body: input, actor }: Command<'sortNotes'>): Promise<z.output<typeof SortedNotes>> {
  const { provider, client: name } = params;
  const { record, definition } = await findClient(s, provider, name);
  const { items, unsorted } = await s.documents.read('notes', { definition, text: input.text });
  const first = (field: string) => items.find((item) => item.field === field);
  const saved = new Set<unknown>();
  if (input.apply) {
    const [id, secret, scopes, ends] = [first('client_id'), first('client_secret'), first('scopes'), first('secret_ends')];
    const endsAt = ends ? readDay(ends.value) : null;
    const endsText = endsAt === null ? null : iso(endsAt);
    const values = Object.fromEntries(
      definition.placeholders.filter((one) => one.level === 'client').flatMap((one) => (first(one.name) ? [[one.name, first(one.name)?.value ?? '']] : [])),
    );
    const own = record.placeholders;
    const differs = Object.entries(values).some(([key, value]) => own[key] !== value);
    const change = {
      revision: record.revision,
      take_as_is: false,
      ...(id ? { client_id: id.value } : {}),
      ...(scopes ? { registered_scopes: tidyScopes(scopes.value).value } : {}),
      ...(differs ? { placeholders: { ...own, ...values } } : {}),
    };
    if (Object.keys(change).length > 2) await changeClient(s, { params, body: change, actor });
    for (const item of [id, scopes, ...Object.keys(values).map(first)]) if (item) saved.add(item);
    if (secret) {
      await addSecret(s, {
        params,
        actor,
        body: {
          secret: secret.value,
          kind: 'secret',
          label: 'from pasted notes',
          starts_at: null,
          ends_at: endsText,
          form: 'pem',
          password: '',
          at_once: false,
          take_as_is: false,
        },
      });
      saved.add(secret);
      if (ends && endsText) saved.add(ends);
    } else if (ends && endsText) {
      const inUse = (await s.store.secrets.ofClient(record.id)).filter((one) => one.state !== 'retired');
      const [only] = inUse;
      if (inUse.length === 1 && only) {
        await changeSecret(s, { params: { ...params, secret: only.id }, body: { ends_at: endsText }, actor });
        saved.add(ends);
      }
    }
    const there = items.filter((item) => item.field === 'redirect_uri');
    if (there.length > 0) {
      await checkRedirectUri(s, { params, body: { registered: there.map((item) => item.value).join('\n') }, actor });
      for (const item of there) saved.add(item);
    }
  }
  const hidden = new Set(['client_secret']);
  return {
    found: items.map((item) => ({
      field: item.field,
      name: OWN_NAMES[item.field] ?? fieldName(definition, item.field),
      line: item.line,
      shows: hidden.has(item.field) ? `${item.value.length} characters` : item.value.slice(0, 200),
      why: whyOf(item, record.redirectUri),
      saved: saved.has(item),
    })),
    unsorted,
  };
}
