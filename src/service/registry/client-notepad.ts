import type { z } from 'zod';
import type { Notepad, SortedNotepad } from '../../api/clients.ts';
import { fieldName } from '../../core/provider/shapes.ts';
import { tidyScopes } from '../../core/provider/tidy.ts';
import { addSecret } from './client-secrets.ts';
import { changeClient, findClient } from './clients.ts';
import type { Services } from './services.ts';

/** Sorts a notepad into the fields, and saves what was found where that is asked for. The secret is sealed, never shown back. */
export async function notepad(
  s: Services,
  provider: string,
  name: string,
  input: z.output<typeof Notepad>,
  operator: string,
): Promise<z.output<typeof SortedNotepad>> {
  const { record, definition } = await findClient(s, provider, name);
  const { items, unsorted } = await s.documents.read('notes', { definition, text: input.text });
  const first = (field: string) => items.find((item) => item.field === field);
  const saved = new Set<unknown>();
  if (input.apply) {
    const [id, secret, scopes] = [first('client_id'), first('client_secret'), first('scopes')];
    const values = Object.fromEntries(
      definition.placeholders.filter((one) => one.level === 'client').flatMap((one) => (first(one.name) ? [[one.name, first(one.name)?.value ?? '']] : [])),
    );
    const own = record.placeholders as Record<string, string>;
    const differs = Object.entries(values).some(([key, value]) => own[key] !== value);
    const change = {
      revision: record.revision,
      take_as_is: false,
      ...(id ? { client_id: id.value } : {}),
      ...(scopes ? { registered_scopes: tidyScopes(scopes.value).value } : {}),
      ...(differs ? { placeholders: { ...own, ...values } } : {}),
    };
    if (Object.keys(change).length > 2) await changeClient(s, provider, name, change, operator);
    for (const item of [id, scopes, ...Object.keys(values).map(first)]) if (item) saved.add(item);
    if (secret) {
      await addSecret(
        s,
        provider,
        name,
        {
          secret: secret.value,
          kind: 'secret',
          label: 'from a notepad',
          starts_at: null,
          ends_at: null,
          form: 'pem',
          password: '',
          at_once: false,
          take_as_is: false,
        },
        operator,
      );
      saved.add(secret);
    }
  }
  const hidden = new Set(['client_secret']);
  return {
    found: items.map((item) => ({
      field: item.field,
      name: item.field === 'scopes' ? 'scopes' : fieldName(definition, item.field),
      line: item.line,
      shows: hidden.has(item.field) ? `${item.value.length} characters` : item.value.slice(0, 200),
      why: item.why,
      saved: saved.has(item),
    })),
    unsorted,
  };
}
