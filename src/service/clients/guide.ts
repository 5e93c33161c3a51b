import type { Answers, Client, Registering } from '../../api/clients.ts';
import type { KeyFacts } from '../../core/oauth/client-keys.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { guideFor } from '../../core/provider/guide.ts';
import type { PlaceholderValues } from '../../core/provider/placeholder-text.ts';
import type { ClientRow } from '../store/clients.ts';
import type { SecretRow } from '../store/secrets.ts';

/** The values that a step of the guide may hold. */
function guideValues(record: ClientRow, definition: ProviderDefinition, secrets: readonly SecretRow[], answers: Answers): PlaceholderValues {
  const url = new URL(record.redirectUri);
  const registered = record.registeredScopes;
  const scopes = registered.length > 0 ? registered : definition.scopes.filter((scope) => scope.preset).map((scope) => scope.name);
  const x5t = (secrets.filter((one) => one.state !== 'retired').at(-1)?.facts as KeyFacts | null | undefined)?.x5t;
  return {
    ...answers,
    ...record.placeholders,
    redirect_uri: record.redirectUri,
    redirect_host: url.hostname,
    origin: url.origin,
    keys_address: record.redirectUri.replace('/oauth/callback/', '/oauth/keys/'),
    client_id: record.clientId ?? '',
    client_title: record.title || record.name,
    listed_accounts: record.listedAccounts.join(' '),
    scopes: scopes.join(' '),
    sha1: x5t ? Buffer.from(x5t, 'base64url').toString('hex').toUpperCase() : '',
  };
}

/** What a step of the guide brings, as far as it is entered here. */
const enteredOf = (record: ClientRow, secrets: readonly SecretRow[]): string[] => [
  ...(record.clientId === null ? [] : ['client_id']),
  ...(secrets.some((one) => one.state !== 'retired') ? ['client_secret'] : []),
];

export const guideOf = (
  record: ClientRow,
  definition: ProviderDefinition,
  { secrets, answers, registering }: { secrets: readonly SecretRow[]; answers: Answers; registering: Registering },
) => guideFor(definition, guideValues(record, definition, secrets, answers), { ...registering, entered: enteredOf(record, secrets) });

/** The questions of the provider's form, each with what is to be answered. */
export const formOf = (definition: ProviderDefinition, answers: Answers): Client['form'] =>
  definition.registration.form.map(({ question, answer }) => ({ question, answer: answer === undefined ? '' : answers[answer], from: answer ?? null }));

/** This client's page at the provider: as someone entered it, else as the definition builds it. */
export function clientPage(record: ClientRow, definition: ProviderDefinition, registering: Registering): string | null {
  if (registering.own_page) return registering.own_page;
  const template = definition.registration.client_page;
  if (template === undefined || record.clientId === null) return null;
  const page = template.replace('{client_id}', encodeURIComponent(record.clientId));
  return page.includes('{') ? null : page;
}
