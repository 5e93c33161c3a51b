import { mayFetch, mayRelayAtAll, type Permission } from './permissions.ts';

/** Kinds of tools, told apart by the boxes that they have. */
export const SETUP_KINDS = ['sign_in', 'token_url', 'refresh_token', 'fixed_fields', 'header', 'own_code'] as const;
type SetupKind = (typeof SETUP_KINDS)[number];

/** What to paste where, for one kind of tool. */
export interface SetupInstructions {
  kind: SetupKind;
  title: string;
  /** How to tell that a tool is of this kind. */
  fits: string;
  ready: boolean;
  /** What has to be set here first. */
  missing: string[];
  /** What is weaker about this way, or null. */
  weaker: string | null;
  boxes: SetupField[];
  steps: string[];
  /** An example to copy; empty: there is none. */
  text: string;
}

/** `as`: a value to copy, words that say what goes in, or a secret that is not shown. */
interface SetupField {
  box: string;
  value: string;
  as: 'value' | 'words' | 'secret';
  note: string;
}

export interface SetupCaller {
  callerId: string;
  tokenPath: string | null;
  redirectUris: readonly string[];
  keepsNoSecret: boolean;
  /** Everything that it may use has this one name. */
  hasOne: boolean;
}
export interface SetupConnection {
  name: string;
  permissions: readonly Permission[];
  baseUrl: string;
  /** How the API takes the token. */
  header: string;
  word: string;
  /** A GET path that proves something, for examples. */
  path: string;
  readsPath: boolean;
  /** A renewal ends the token that was issued before. */
  renewalEndsToken: boolean;
  hasSession: boolean;
}

const SECRET = 'a key of this caller, shown once when it was made';
const ONCE = 'Lost it? Add a new key, switch the tool, then retire the old key.';

/** The setup instructions of one caller for one connection, in the order in which most tools are found. */
export function setupInstructionsFor(publicUrl: string, caller: SetupCaller, connection: SetupConnection): SetupInstructions[] {
  const shared = sharedFields(publicUrl, caller, connection);
  return [signIn, tokenUrlBox, refreshTokenBox, fixedFields, headerOnly, ownCode].map((instructions) => instructions(shared));
}

type Shared = ReturnType<typeof sharedFields>;

/** What several kinds of tools need alike. */
function sharedFields(publicUrl: string, caller: SetupCaller, connection: SetupConnection) {
  const tokens = mayFetch(connection.permissions);
  const relays = mayRelayAtAll(connection.permissions);
  const relayBase = `${publicUrl}/relay/${connection.name}`;
  const apiBase = tokens ? connection.baseUrl : relayBase;
  const tokenUrl = `${publicUrl}/oauth/token`;
  const scope = `connection:${connection.name}`;
  const id: SetupField = { box: 'Client ID', value: caller.callerId, as: 'value', note: '' };
  const secret: SetupField = { box: 'Client secret', value: SECRET, as: 'secret', note: ONCE };
  const noTokens = tokens ? [] : [`Tokens of ${connection.name}: this caller may only relay it. Permit tokens, or follow \u201cA header only\u201d.`];
  const noRelay = relays ? [] : [`The relay for ${connection.name}: permit it.`];
  const api: SetupField = {
    box: 'Base URL of the API',
    value: apiBase,
    as: 'value',
    note: tokens ? '' : 'Our relay: the tool holds no token of the provider.',
  };
  const carried: SetupField[] =
    tokens && (connection.header.toLowerCase() !== 'authorization' || connection.word !== 'Bearer')
      ? [
          {
            box: 'Header of the calls',
            value: `${connection.header}: ${connection.word === '' ? '' : `${connection.word} `}TOKEN`,
            as: 'value',
            note: 'This API does not take \u201cAuthorization: Bearer\u201d. A tool that cannot change it: use the relay.',
          },
        ]
      : [];
  const ends = tokens && connection.renewalEndsToken ? 'A renewal ends the previous token: a tool that keeps it longer than expires_in is rejected.' : null;
  return { publicUrl, caller, connection, tokens, relays, relayBase, tokenUrl, scope, id, secret, noTokens, noRelay, api, carried, ends };
}

const signIn = ({ publicUrl, caller, connection, tokenUrl, scope, id, secret, api, carried }: Shared): SetupInstructions => ({
  kind: 'sign_in',
  title: 'Only \u201csign in\u201d',
  fits: 'It has boxes for an authorization URL and a token URL, shows a redirect URI of its own, and opens a browser.',
  ...state(caller.redirectUris.length > 0 ? [] : ['The redirect URI that the tool shows: enter it at this caller.']),
  weaker: caller.keepsNoSecret ? null : 'Where the tool offers PKCE (S256), turn it on. Without it, a code that leaks is guarded by the secret alone.',
  boxes: [
    { box: 'Authorization URL', value: `${publicUrl}/oauth/authorize`, as: 'value', note: '' },
    { box: 'Token URL (also for renewal)', value: tokenUrl, as: 'value', note: '' },
    id,
    caller.keepsNoSecret ? { box: 'Client secret', value: 'leave empty', as: 'words', note: 'This caller keeps no secret; PKCE with S256 is needed.' } : secret,
    { box: 'Scope', value: scope, as: 'value', note: 'May be left empty: then you choose when you sign in.' },
    { box: 'Client authentication', value: caller.keepsNoSecret ? 'none' : 'Basic, or in the body', as: 'words', note: '' },
    { box: 'Revocation URL, where it has one', value: `${publicUrl}/oauth/revoke`, as: 'value', note: '' },
    { box: 'User-info URL, if required', value: `${publicUrl}/oauth/userinfo`, as: 'value', note: 'Returns the account that consented.' },
    api,
    ...carried,
  ],
  steps: [
    'Copy the redirect URI out of the tool and enter it at this caller, character by character.',
    'Paste the values below into the tool.',
    `Press the tool\u2019s \u201csign in\u201d or \u201cconnect\u201d. This service asks you to sign in, then which connection it may use: choose ${connection.name}.`,
    'Run one call in the tool. From then on it renews with us automatically.',
  ],
  text: '',
});

const tokenUrlBox = ({ publicUrl, caller, connection, tokenUrl, scope, id, secret, noTokens, api, ends, carried }: Shared): SetupInstructions => ({
  kind: 'token_url',
  title: 'Token URL, id and secret',
  fits: 'It knows \u201cclient credentials\u201d: boxes for a token URL, an id, a secret, and mostly a scope.',
  ...state(noTokens),
  weaker: ends,
  boxes: [
    { box: 'Token URL', value: tokenUrl, as: 'value', note: '' },
    { box: 'Grant type', value: 'client_credentials', as: 'value', note: '' },
    id,
    secret,
    { box: 'Scope', value: scope, as: 'value', note: caller.hasOne ? 'May be left empty: this caller has one connection.' : 'Names the connection.' },
    {
      box: 'No box for a scope?',
      value: `${tokenUrl}/${connection.name}`,
      as: 'value',
      note: 'As the token URL. Or, where it has a box for a resource or an audience: the resource below.',
    },
    { box: 'Resource or audience', value: `${publicUrl}/connections/${connection.name}`, as: 'value', note: 'Only instead of the scope, never with it.' },
    api,
    ...carried,
  ],
  steps: ['Paste the values into the tool; name the connection in one box only.', 'Run one call.'],
  text: '',
});

const refreshTokenBox = ({ tokenUrl, scope, id, secret, api, ends, caller, carried, noTokens }: Shared): SetupInstructions => ({
  kind: 'refresh_token',
  title: 'A refresh token box',
  fits: 'It has boxes for an ID, a secret and a refresh token, renews automatically, and opens no browser.',
  ...state([...noTokens, ...(caller.keepsNoSecret ? ['A key. This caller has none, and this kind of tool authenticates with it.'] : [])]),
  weaker: ends,
  boxes: [
    { box: 'Token URL', value: tokenUrl, as: 'value', note: '' },
    id,
    secret,
    { box: 'Refresh token', value: scope, as: 'value', note: 'Names the connection. Not a secret: the key authenticates the caller.' },
    {
      box: 'Access token, if required',
      value: 'any word, such as \u201cnone\u201d',
      as: 'words',
      note: 'The first call fails, then the tool renews.',
    },
    api,
    ...carried,
  ],
  steps: ['Paste the values into the tool.', 'Let it renew once, then run one call.'],
  text: '',
});

const fixedFields = ({ publicUrl, caller, scope, id, secret, api, ends, carried, noTokens }: Shared): SetupInstructions => ({
  kind: 'fixed_fields',
  title: 'Fixed boxes',
  fits: 'It builds the token URL itself, from a base address and a path or tenant that cannot be left out.',
  ...state([
    ...noTokens,
    ...(caller.tokenPath === null ? ['A token path of this caller\u2019s own, such as the tool builds it: enter it at this caller.'] : []),
  ]),
  weaker: ends,
  boxes: [
    { box: 'Base address', value: publicUrl, as: 'value', note: '' },
    {
      box: 'What it adds',
      value: caller.tokenPath ?? 'the path that the tool builds',
      as: caller.tokenPath === null ? 'words' : 'value',
      note: 'It is answered for this caller alone.',
    },
    id,
    secret,
    { box: 'Scope', value: scope, as: 'value', note: caller.hasOne ? 'May be left empty: this caller has one connection.' : '' },
    api,
    ...carried,
  ],
  steps: [
    'Find out which address the tool builds: its documentation, or its error when it is given a wrong one.',
    'Enter the path of that address at this caller.',
    'Paste the values into the tool and run one call.',
  ],
  text: '',
});

const headerOnly = ({ caller, relayBase, noRelay }: Shared): SetupInstructions => ({
  kind: 'header',
  title: 'A header only',
  fits: 'It knows no OAuth: it sends calls with a fixed header, or with a user name and password.',
  ...state(noRelay),
  weaker:
    'The header is the key itself: whoever reads the tool\u2019s settings can use it. Give the tool a caller of its own, for the calls that it makes and no others.',
  boxes: [
    { box: 'Base URL of the API', value: relayBase, as: 'value', note: 'Our relay: it adds the token, whatever header the API wants.' },
    { box: 'Authorization header', value: `Bearer ${caller.callerId}.KEY`, as: 'value', note: `KEY is ${SECRET}.` },
    { box: 'Or user name', value: caller.callerId, as: 'value', note: '' },
    { box: 'and password', value: SECRET, as: 'secret', note: ONCE },
  ],
  steps: ['Put the relay\u2019s address in place of the API\u2019s.', 'Put in the header, or user name and password.', 'Run one call.'],
  text: '',
});

const ownCode = ({ caller, connection, tokens, relays, relayBase, tokenUrl, scope }: Shared): SetupInstructions => ({
  kind: 'own_code',
  title: 'Your own code',
  fits: 'You write it: a script, a job, a service.',
  ...state(tokens || relays ? [] : ['Permit tokens or the relay.']),
  weaker: null,
  boxes: [],
  steps: [
    'Put the key where your code reads its secrets, never into the code.',
    ...(tokens ? ['Request a token before you need it; keep it for less than expires_in, and ask again. Asking often costs nothing.'] : []),
    ...(relays ? ['Or send the calls to the relay: there is no token to keep, and quotas are watched.'] : []),
  ],
  text: example(connection, { tokens, relays, tokenUrl, scope, relayBase, callerId: caller.callerId }),
});

const state = (missing: string[]): Pick<SetupInstructions, 'ready' | 'missing'> => ({ ready: missing.length === 0, missing });

function example(
  connection: SetupConnection,
  x: { tokens: boolean; relays: boolean; tokenUrl: string; scope: string; relayBase: string; callerId: string },
): string {
  const path = connection.readsPath ? connection.path : '/';
  const session = connection.hasSession ? ' (it is the session\u2019s; call base_url of the answer)' : '';
  return [
    `export KETTLE_ID='${x.callerId}' KETTLE_KEY='\u2026'`,
    ...(x.tokens
      ? [
          '',
          `# a token${session}`,
          `curl -sS -u "$KETTLE_ID:$KETTLE_KEY" -d grant_type=client_credentials -d scope=${x.scope} '${x.tokenUrl}'`,
          `curl -sS -H "${connection.header}: ${connection.word === '' ? '' : `${connection.word} `}$TOKEN" '${connection.baseUrl}${path}'`,
        ]
      : []),
    ...(x.relays ? ['', '# or through the relay, without a token', `curl -sS -u "$KETTLE_ID:$KETTLE_KEY" '${x.relayBase}${path}'`] : []),
  ].join('\n');
}
