/**
 * Every field of the dialect: which stand-in shows it, and which test holds it. docs/DIALECT.md is made from this table, and a test
 * walks the schema, so that a new field cannot go without.
 */
export interface DialectRow {
  field: string;
  standin: string;
  test: string;
  shows: string;
}

const D = 'test/dialect.test.ts';
const OAUTH = 'src/core/oauth/dialect.test.ts';
export const DIALECT_ROWS: DialectRow[] = [
  {
    field: 'rotation',
    standin: 'Eelgrass, Berthline: each_use; Wharfpost: never',
    test: 'test/main-path.test.ts, src/core/renewal/model.test.ts',
    shows: 'what a renewal may spend',
  },
  {
    field: 'reuse',
    standin: 'Berthline: kills_grant; Eelgrass: grace; Notchboard: rejected',
    test: `test/berthline.test.ts, ${D}`,
    shows: 'what a second use costs',
  },
  { field: 'reuse_grace_seconds', standin: 'Eelgrass: 30', test: 'test/machine-bad-days.test.ts', shows: 'how long the old one is still taken' },
  {
    field: 'renewal_ends_access_token',
    standin: 'Notchboard',
    test: D,
    shows: 'the token issued before is dead after a renewal, and never issued again',
  },
  { field: 'assumed_life_seconds', standin: 'Piermaster: names no lifetime', test: D, shows: 'the lifetime shown and issued is the assumed one' },
  { field: 'offline_parameter', standin: 'Berthline, Notchboard', test: 'test/berthline.test.ts', shows: 'without it no refresh token comes' },
  {
    field: 'consent_prompt',
    standin: 'none: forged requests',
    test: 'src/core/oauth/requests.test.ts',
    shows: 'when the person is asked again although they consented before',
  },
  {
    field: 'revocation_ends',
    standin: 'Eelgrass, Deckhail, Notchboard: this_grant',
    test: 'test/standby.test.ts',
    shows: 'whether a replaced grant is ended at the provider',
  },
  { field: 'idle_life_seconds', standin: 'Berthline, edited by the test', test: 'src/core/renewal/renewal.test.ts', shows: 'kept active at half of it' },
  { field: 'absolute_life_seconds', standin: 'Notchboard, edited by the test', test: D, shows: 'when someone must reconnect' },
  { field: 'refresh_tokens_most', standin: 'Notchboard: 3', test: D, shows: 'the fourth consent is warned of, and ends the first grant' },
  {
    field: 'approval_check',
    standin: 'Oakum',
    test: 'test/registering.test.ts, src/core/oauth/approval-check.test.ts',
    shows: 'approval is detected automatically, and what came of it stands in the history',
  },
  { field: 'pkce', standin: 'Notchboard: none', test: D, shows: 'no challenge is sent' },
  { field: 'scope_separator', standin: 'Notchboard, Bosunry: comma', test: `${D}, ${OAUTH}`, shows: 'scopes requested and granted' },
  { field: 'authorization_parameters', standin: 'Notchboard', test: D, shows: 'the provider rejects without them' },
  { field: 'token_parameters', standin: 'Piermaster: audience from a placeholder', test: D, shows: 'the provider rejects without them' },
  { field: 'token_request', standin: 'Wharfpost: json', test: D, shows: 'a form is rejected there' },
  { field: 'token_headers', standin: 'Wharfpost, Piermaster', test: D, shows: 'the provider rejects without them' },
  { field: 'basic_encoding', standin: 'Notchboard: raw', test: `${D}, ${OAUTH}`, shows: 'a secret with % and + is read back unchanged' },
  { field: 'token_answer', standin: 'Wharfpost: token, life, scope; Notchboard: API host, account', test: D, shows: 'each member at its own place' },
  { field: 'text_numbers', standin: 'Notchboard', test: D, shows: 'expires_in as text' },
  { field: 'error_at', standin: 'Wharfpost', test: D, shows: 'an error with status 200 is an error, at the token endpoint and in calls' },
  { field: 'error_words', standin: 'Wharfpost', test: D, shows: 'WP-401 stops the client as invalid_client does' },
  { field: 'client_assertion', standin: 'Ledgerfin: PS256, x5t#S256', test: `${D}, ${OAUTH}`, shows: 'a signed assertion instead of a secret' },
  {
    field: 'resource',
    standin: 'Berthline: from a placeholder',
    test: 'src/core/oauth/grant-requests.test.ts, test/grant-types.test.ts',
    shows: 'sent with authorization and token requests; another one is rejected',
  },
  {
    field: 'login_hint',
    standin: 'Notchboard: member_hint; Eelgrass: by OpenID Connect',
    test: 'test/grant-types.test.ts',
    shows: 'the expected account is chosen beforehand',
  },
  {
    field: 'assertion_grant',
    standin: 'Ledgerfin: scopes in the assertion',
    test: 'src/core/oauth/grant-requests.test.ts, test/grant-types.test.ts',
    shows: 'a token in the name of an account',
  },
  {
    field: 'admin_consent',
    standin: 'Eelgrass, Piermaster',
    test: 'test/diagnosis.test.ts, test/grant-types.test.ts',
    shows: 'the link and the text, the rejection before, the consent after',
  },
  { field: 'page_words', standin: 'Bosunry, Oakum', test: 'test/diagnosis.test.ts', shows: 'what their own stop pages mean' },
  { field: 'revocation', standin: 'Eelgrass: RFC 7009; Notchboard: DELETE with a query', test: D, shows: 'the grant is dead at the provider' },
];

export const dialectDocument = (): string =>
  [
    '# The dialect, field by field',
    '',
    'How a provider may depart from the standards, the stand-in that shows it, and the test that holds it. Made from `test/support/dialect-table.ts` by `npm run docs`; a test walks the schema, so that no field goes without.',
    '',
    '| field | shown by | held by | what is seen |',
    '|---|---|---|---|',
    ...DIALECT_ROWS.map(
      (row) =>
        `| \`${row.field}\` | ${row.standin} | ${row.test
          .split(', ')
          .map((one) => `\`${one}\``)
          .join(', ')} | ${row.shows} |`,
    ),
    '',
    'Not of the dialect, but of each API: the header and word that carry the token (Piermaster: `x-pier-token` alone; Notchboard: `Notch`) and the headers that it insists on (Wharfpost, Ledgerfin, Piermaster).',
    '',
  ].join('\n');
