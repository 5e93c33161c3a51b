/**
 * What can be wrong with a consent, a token request or a call: the closed table of causes. The verdict comes first: whether there is a
 * token at all, whether it is good, and whose half of the rights is missing; then who fixes it, and how.
 */
export const VERDICTS = {
  works: 'It works',
  no_token: 'No token was given',
  token_refused: 'The token is rejected',
  right_missing: 'The token is good; a right is missing',
  call_wrong: 'The token is good; the call is wrong',
  thing_missing: 'The token is good; the thing does not exist',
  provider_trouble: 'The provider has trouble of its own',
  ours: 'It lies with this service',
  unknown: 'It is not known what is wrong',
} as const;
export type Verdict = keyof typeof VERDICTS;

/** Whose half of the rights is missing. */
export const HALVES = ['client', 'person', 'service_user', 'organization'] as const;
export type Half = (typeof HALVES)[number];

/** Who has to fix it. */
export const SIDES = ['person', 'client', 'organization', 'provider', 'caller', 'ours'] as const;
export type Side = (typeof SIDES)[number];

interface CauseFacts {
  verdict: Verdict;
  half?: Half;
  side: Side;
  title: string;
  remedy: string;
}

const AGAIN = 'Then open the connection again.';
const TABLE = {
  // The client could not show who it is.
  secret_wrong: {
    verdict: 'no_token',
    side: 'client',
    title: 'The provider rejects the client\u2019s id or secret.',
    remedy: `Enter the secret again, as the provider shows it (its value, not its name). ${AGAIN}`,
  },
  secret_retired: {
    verdict: 'no_token',
    side: 'client',
    title: 'The provider rejects a client secret that it accepted before: it expired, or was retired at the provider.',
    remedy: `Make a new secret at the provider and enter it. ${AGAIN}`,
  },
  client_elsewhere: {
    verdict: 'no_token',
    side: 'client',
    title: 'The provider does not know this client at this address: it is probably registered in another region or tenant.',
    remedy: `Compare the value with the address of the page on which the client stands at the provider, and change it at the client. ${AGAIN}`,
  },
  basic_encoding: {
    verdict: 'no_token',
    side: 'client',
    title: 'The provider probably reads the id or secret differently than it was sent: they hold characters that form-encoding changes.',
    remedy: `Change \u201cbasic_encoding\u201d in the dialect of the definition, or let the client authenticate by client_secret_post where the provider takes it. ${AGAIN}`,
  },
  certificate_needed: {
    verdict: 'right_missing',
    half: 'client',
    side: 'client',
    title: 'The provider requires a certificate here. A token requested with a secret is not enough.',
    remedy: 'Make a certificate at the client, upload its public part at the provider, and let the client authenticate by private_key_jwt.',
  },
  certificate_ended: {
    verdict: 'no_token',
    side: 'client',
    title: 'The client\u2019s certificate has expired, or is not valid yet.',
    remedy: `Make a new certificate, upload its public part, and enter it. ${AGAIN}`,
  },
  certificate_unknown: {
    verdict: 'no_token',
    side: 'client',
    title: 'The provider rejects the client\u2019s certificate or key: it is probably not uploaded.',
    remedy: `Upload the public part at the provider, and compare the thumbprint it shows with ours. ${AGAIN}`,
  },
  clock_wrong: {
    verdict: 'ours',
    side: 'ours',
    title: 'The clock of this machine and that of the provider differ, so what we sign looks too old or too new.',
    remedy: 'Set the clock of this machine by NTP. If it is right, report it to the provider.',
  },
  client_not_allowed: {
    verdict: 'no_token',
    side: 'client',
    title: 'The provider does not allow this client this kind of request.',
    remedy: `Check at the provider that the client is of the right type, is published or approved, and may use this grant type. ${AGAIN}`,
  },
  approval_pending: {
    verdict: 'no_token',
    side: 'provider',
    title: 'The provider has not approved the client yet.',
    remedy: 'Wait for the approval. Meanwhile, build against a rehearsal of this provider.',
  },
  approval_refused: {
    verdict: 'no_token',
    side: 'client',
    title: 'The provider rejected the client.',
    remedy: 'Request approval again, or use another client.',
  },
  // The request was not what the provider expects.
  redirect_uri_differs: {
    verdict: 'no_token',
    side: 'client',
    title: 'The redirect URI differs from the one registered at the provider.',
    remedy: `Copy ours from the client\u2019s page, register exactly that text at the provider, and save. ${AGAIN}`,
  },
  scope_separator: {
    verdict: 'no_token',
    side: 'ours',
    title: 'The provider expects another separator between scopes.',
    remedy: 'Change the scopes of the connection, or \u201cscope_separator\u201d in the dialect of the definition. Then open it again.',
  },
  scope_misspelt: {
    verdict: 'no_token',
    side: 'ours',
    title: 'The provider does not know a scope that was requested.',
    remedy: 'Change the scopes of the connection, then open it again.',
  },
  scope_unregistered: {
    verdict: 'no_token',
    side: 'client',
    title: 'A scope was requested that is not registered for the client at the provider.',
    remedy: `Register the scope at the provider, or request fewer. ${AGAIN}`,
  },
  request_odd: {
    verdict: 'no_token',
    side: 'client',
    title: 'The provider does not understand the request for tokens.',
    remedy: 'Compare the provider definition with the provider\u2019s pages.',
  },
  resource_refused: {
    verdict: 'no_token',
    side: 'client',
    title: 'The provider does not accept the requested resource or audience.',
    remedy: `Compare \u201cresource\u201d and the audience parameter in the dialect of the definition with the provider\u2019s pages. ${AGAIN}`,
  },
  requirement_unsupported: {
    verdict: 'ours',
    side: 'ours',
    title: 'The provider requires something that this version does not support.',
    remedy: 'Ask the provider whether it can be turned off for this client. Otherwise this provider cannot be used with this version.',
  },
  service_failed: {
    verdict: 'ours',
    side: 'ours',
    title: 'This service failed while it verified the new tokens.',
    remedy: 'The tokens are kept. Make the test call on the connection\u2019s page; if it fails too, look up the request in the log.',
  },
  // The person, and who stands behind them.
  consent_denied: {
    verdict: 'no_token',
    side: 'person',
    title: 'The person did not consent.',
    remedy: 'Ask the person whether that was intended, then open the connection again.',
  },
  account_not_listed: {
    verdict: 'no_token',
    side: 'client',
    title: 'The account is not among those listed for the client.',
    remedy: `List the account at the provider, then enter it at the client here; or consent with a listed account. ${AGAIN}`,
  },
  account_kind_wrong: {
    verdict: 'right_missing',
    half: 'person',
    side: 'person',
    title: 'The account is of a kind that the provider does not take here.',
    remedy: `Consent with an account of the kind it names: usually a person\u2019s own, or one of the organization. ${AGAIN}`,
  },
  admin_consent_missing: {
    verdict: 'right_missing',
    half: 'organization',
    side: 'organization',
    title: 'Admin consent is missing.',
    remedy: 'Send the link and the text below to an administrator of the organization. Then check for the consent.',
  },
  subject_refused: {
    verdict: 'no_token',
    side: 'client',
    title: 'The provider issues no token to this service account for that account.',
    remedy: 'Check the name of the account at the connection, and that it exists at the provider and lets the service account act for it.',
  },
  // The code.
  code_expired: {
    verdict: 'no_token',
    side: 'person',
    title: 'The code was too old when it was exchanged.',
    remedy: 'Open the connection again and finish without a pause.',
  },
  code_used: {
    verdict: 'no_token',
    side: 'person',
    title: 'The code was used already. A code works once.',
    remedy: 'Open the connection again, and paste the new code.',
  },
  code_refused: {
    verdict: 'no_token',
    side: 'provider',
    title: 'The provider rejects the code.',
    remedy: 'A code works once, for a short time, and only with its own redirect URI. Open the connection again.',
  },
  // Tokens, and what comes of them.
  no_refresh_token: {
    verdict: 'works',
    side: 'client',
    title: 'No refresh token: the connection ends when its access token expires.',
    remedy: 'Check that the connection requests offline access, and that the client may use refresh tokens at the provider. Then reconnect.',
  },
  grant_withdrawn: {
    verdict: 'token_refused',
    side: 'person',
    title: 'The provider rejects the refresh token: the grant was withdrawn, or has expired.',
    remedy: 'Reconnect: open the connection and consent at the provider.',
  },
  answer_lost: {
    verdict: 'provider_trouble',
    side: 'provider',
    title: 'No answer from the provider: it was lost in flight.',
    remedy: 'It may have issued tokens, and a code is never sent twice. Open the connection again.',
  },
  answer_unreadable: {
    verdict: 'provider_trouble',
    side: 'provider',
    title: 'The provider\u2019s answer is not a token response.',
    remedy: 'Read the answer. If it is a maintenance page, wait. Otherwise compare the token endpoint in the definition. Then try again.',
  },
  provider_down: { verdict: 'provider_trouble', side: 'provider', title: 'The provider has an outage.', remedy: 'Wait, then try again.' },
  provider_busy: {
    verdict: 'provider_trouble',
    side: 'provider',
    title: 'The provider asked us to wait, and the code expires meanwhile.',
    remedy: 'Wait, then open the connection again.',
  },
  provider_unreachable: {
    verdict: 'provider_trouble',
    side: 'provider',
    title: 'The provider could not be reached; nothing was sent.',
    remedy: 'Nothing was sent, and nothing is lost. Check whether the provider is down and whether this machine can reach it, then retry.',
  },
  answer_forged: {
    verdict: 'no_token',
    side: 'provider',
    title: 'The provider\u2019s answer was not accepted.',
    remedy: 'If it stays so, compare the issuer in the definition with the provider\u2019s metadata. Open the connection again.',
  },
  // Calls with a token.
  token_ended: { verdict: 'token_refused', side: 'ours', title: 'The access token has expired.', remedy: 'Renew the connection, then repeat the call.' },
  token_unknown: {
    verdict: 'token_refused',
    side: 'provider',
    title: 'The API rejects the access token.',
    remedy: 'Renew the connection and retry. If it fails again, the grant was withdrawn, or the token is for another API.',
  },
  audience_wrong: {
    verdict: 'token_refused',
    side: 'client',
    title: 'The access token is for another API than the one called.',
    remedy: 'Fix the audience or resource: at the client, where it is a placeholder, else in the definition. Then open the connection again.',
  },
  scope_missing: {
    verdict: 'right_missing',
    half: 'client',
    side: 'client',
    title: 'The token lacks a scope that this call needs.',
    remedy: 'Add the scope to the connection, and reconnect.',
  },
  scope_unticked: {
    verdict: 'right_missing',
    half: 'person',
    side: 'person',
    title: 'The person did not grant a scope that this call needs.',
    remedy: 'Reconnect, and leave the scope selected.',
  },
  api_not_opened: {
    verdict: 'right_missing',
    half: 'client',
    side: 'client',
    title: 'The API is not enabled for this client.',
    remedy: 'Enable the API for the client in the provider\u2019s console. No reconnect is needed.',
  },
  role_missing: {
    verdict: 'right_missing',
    half: 'service_user',
    side: 'client',
    title: 'The service user lacks the role that this call needs.',
    remedy: 'Give the service user that role at the API.',
  },
  person_lacks_right: {
    verdict: 'right_missing',
    half: 'person',
    side: 'person',
    title: 'The token allows it, but the account has no permission.',
    remedy: 'Ask an administrator to give the account the permission, or consent with another account.',
  },
  quota_used_up: {
    verdict: 'provider_trouble',
    side: 'caller',
    title: 'The quota is used up.',
    remedy: 'Wait as long as the provider states, and call less often.',
  },
  thing_missing: {
    verdict: 'thing_missing',
    side: 'caller',
    title: 'The resource does not exist, or not for this account.',
    remedy: 'Check the path and its ids.',
  },
  call_wrong: { verdict: 'call_wrong', side: 'caller', title: 'The API does not understand the call.', remedy: 'Read the answer, and fix the call.' },
  error_inside: {
    verdict: 'unknown',
    side: 'caller',
    title: 'The API answered with an error inside a successful status.',
    remedy: 'Read the error in the answer. Add its code to error_meanings in the definition, so that it is explained next time.',
  },
  unknown: {
    verdict: 'unknown',
    side: 'provider',
    title: 'The cause is unknown.',
    remedy: 'Read the evidence, and look it up in the provider\u2019s documentation.',
  },
} as const satisfies Record<string, CauseFacts>;

export type Cause = keyof typeof TABLE;
export const CAUSES = Object.keys(TABLE) as [Cause, ...Cause[]];
export const causeFacts = (cause: Cause): CauseFacts => TABLE[cause];

/** What an API's own error code may mean. */
export const CALL_CAUSES = [
  'api_not_opened',
  'account_kind_wrong',
  'admin_consent_missing',
  'audience_wrong',
  'role_missing',
  'person_lacks_right',
  'scope_missing',
  'quota_used_up',
  'certificate_needed',
  'token_ended',
  'token_unknown',
  'approval_pending',
  'thing_missing',
  'call_wrong',
  'provider_down',
] as const satisfies readonly Cause[];
