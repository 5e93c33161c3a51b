/**
 * The one error class of the product and its closed table of codes.
 * Codes are public (RFC 9457 `type` ends in them) and are never reused.
 */
export const FAULTS = {
  INPUT_INVALID: { status: 400, retry: false, says: 'The request does not have the expected shape.', remedy: 'Fix the fields listed and send it again.' },
  INPUT_TOO_LARGE: {
    status: 413,
    retry: false,
    says: 'The request body is larger than this service takes.',
    remedy: 'Send at most 256 kB (6 MB where a document is drafted from).',
  },
  BODY_TIMEOUT: {
    status: 408,
    retry: true,
    says: 'The request body took too long to arrive.',
    remedy: 'Send it again within RUSTY_KETTLE_BODY_SECONDS.',
  },
  BODY_TRUNCATED: { status: 400, retry: true, says: 'The request body ended before its announced length.', remedy: 'Send it again, whole.' },
  CONTENT_TYPE_WRONG: {
    status: 415,
    retry: false,
    says: 'The content type of the request body is not supported here.',
    remedy: 'Send application/json.',
  },
  SIGN_IN_NEEDED: { status: 401, retry: false, says: 'Nobody is signed in.', remedy: 'Sign in at the console, or run `rk sign-in`.' },
  SIGN_IN_WRONG: { status: 401, retry: false, says: 'The name or the password is wrong.', remedy: 'Check both. After five failures you must wait.' },
  SIGN_IN_THROTTLED: {
    status: 429,
    retry: true,
    says: 'Too many sign-ins failed for this name or from this address.',
    remedy: 'Wait as long as Retry-After states.',
  },
  SECOND_FACTOR_NEEDED: {
    status: 401,
    retry: false,
    says: 'The password is right; a second factor is needed.',
    remedy: 'Enter the code of your authenticator app, use your passkey, or enter a recovery code.',
  },
  SECOND_FACTOR_WRONG: {
    status: 403,
    retry: false,
    says: 'The second factor is wrong, or was used already.',
    remedy: 'Enter the code that your authenticator app shows now, or a recovery code that you have not used.',
  },
  CONFIRMATION_NEEDED: {
    status: 403,
    retry: false,
    says: 'This action is sensitive: confirm who you are.',
    remedy: 'Enter your password, and your second factor where you have one. The confirmation holds for ten minutes.',
  },
  ROLE_TOO_LOW: {
    status: 403,
    retry: false,
    says: 'Your role does not permit this.',
    remedy: 'Ask an administrator: *Settings > Operators*, or `rk operator list`.',
  },
  OUTSIDE_LIMITS: {
    status: 403,
    retry: false,
    says: 'This is outside the limits of your account.',
    remedy: 'Ask an administrator without limits.',
  },
  LAST_ADMINISTRATOR: {
    status: 409,
    retry: false,
    says: 'This is the last administrator.',
    remedy: 'Make someone else an administrator first.',
  },
  SIGN_IN_REFUSED: {
    status: 403,
    retry: false,
    says: 'The sign-in at the identity provider was not accepted.',
    remedy: 'Sign in again. If it fails again, show this page to an administrator.',
  },
  STREAMS_FULL: { status: 429, retry: true, says: 'Too many pages watch for changes.', remedy: 'Close pages of the console that nobody uses.' },
  ORIGIN_FOREIGN: { status: 403, retry: false, says: 'The request came from a page of another site.', remedy: 'Open the console at its public address.' },
  TICKET_SPENT: { status: 410, retry: false, says: 'This one-time link was used already or has expired.', remedy: 'Request a new link.' },
  INVITATION_UNKNOWN: {
    status: 404,
    retry: false,
    says: 'This link is not valid, or this browser did not open it.',
    remedy: 'Open the link again as it was sent to you, or ask for a new one.',
  },
  INVITATION_ENDED: { status: 410, retry: false, says: 'This link can no longer be used.', remedy: 'Ask whoever sent it for a new one.' },
  CODE_UNKNOWN: {
    status: 410,
    retry: false,
    says: 'The code is unknown, was used, has expired, or belongs to another caller.',
    remedy: 'A code works once, for ten minutes. Send the person to their link again.',
  },
  REPLICA_ALIVE: {
    status: 409,
    retry: false,
    says: 'The owner of this data folder is still running.',
    remedy: 'Stop it; its own next start saves what it holds. Adopt only the folder of a replica that will not come back.',
  },
  INSTALLATION_HELD: {
    status: 503,
    retry: true,
    says: 'Renewals of this installation are held, because a second installation may be renewing the same connections.',
    remedy: 'Make sure that no other copy runs, then run `rk installation own`.',
  },
  NOT_FOUND: { status: 404, retry: false, says: 'Not found.', remedy: 'List what exists, and check the spelling.' },
  NAME_TAKEN: { status: 409, retry: false, says: 'This name is taken.', remedy: 'Choose another name, or change the one that exists.' },
  WOULD_END: {
    status: 409,
    retry: false,
    says: 'This consent would expire the refresh token of another connection.',
    remedy: 'Open it again with `end_oldest`, or first revoke a connection that you no longer need.',
  },
  IN_USE: { status: 409, retry: false, says: 'Something else still depends on it.', remedy: 'Remove what depends on it first.' },
  REVISION_CONFLICT: { status: 409, retry: false, says: 'Someone changed it since you read it.', remedy: 'Read it again and repeat your change.' },
  DEFINITION_INVALID: { status: 400, retry: false, says: 'The provider definition is not valid.', remedy: 'Fix the fields listed and load it again.' },
  DEFINITION_UNSUPPORTED: {
    status: 400,
    retry: false,
    says: 'The provider definition asks for something this version cannot keep safe.',
    remedy: 'Read the reason. A later version may support it.',
  },
  METADATA_WRONG: {
    status: 422,
    retry: false,
    says: 'The provider\u2019s metadata cannot be used.',
    remedy: 'Check the issuer: it is the address that the provider\u2019s pages call issuer, character by character.',
  },
  OPENAPI_WRONG: {
    status: 422,
    retry: false,
    says: 'This is not an OpenAPI document that can be read.',
    remedy: 'Give an OpenAPI 3.x document, as JSON or YAML.',
  },
  DOCUMENT_UNREADABLE: {
    status: 422,
    retry: false,
    says: 'The document could not be fetched.',
    remedy: 'Open the address in a browser; if it needs a sign-in, save the file and give that.',
  },
  DOCUMENT_TOO_COMPLEX: {
    status: 422,
    retry: false,
    says: 'Reading the document took too long, and was stopped.',
    remedy: 'Give a smaller document: only the part that is needed.',
  },
  ORIGIN_UNCONFIRMED: {
    status: 409,
    retry: false,
    says: 'The definition now sends this client\u2019s secret or tokens to another address than before.',
    remedy: 'Look at the addresses on the client\u2019s page, and confirm them with your own password if they are the provider\u2019s.',
  },
  PASSWORD_WRONG: { status: 403, retry: false, says: 'The password is wrong.', remedy: 'Enter your own password, the one you sign in with.' },
  DEFINITION_IN_USE: {
    status: 409,
    retry: false,
    says: 'The definition is in use, and this change would break what uses it.',
    remedy: 'Fix the fields listed, or add it as another provider.',
  },
  APPROVAL_NOT_REPORTED: {
    status: 409,
    retry: false,
    says: 'The provider did not report whether the client is approved.',
    remedy: 'Check the client\u2019s page at the provider, then enter the result here.',
  },
  SECRET_NOT_VERIFIED: {
    status: 409,
    retry: true,
    says: 'The secret could not be verified now.',
    remedy: 'Retry later. The current secret stays in use.',
  },
  CLIENT_INCOMPLETE: { status: 409, retry: false, says: 'The client is not complete.', remedy: 'Enter the missing fields.' },
  CONSENT_EXPIRED: { status: 410, retry: false, says: 'This consent was started too long ago, or is finished.', remedy: 'Open the connection again.' },
  CONSENT_FOREIGN: {
    status: 403,
    retry: false,
    says: 'This consent was started in another browser.',
    remedy: 'Finish it in the browser in which it was started, or start again here.',
  },
  CONNECTION_NOT_CONSENTED: {
    status: 409,
    retry: false,
    says: 'Nobody has consented to this connection yet.',
    remedy: 'Open the connection and consent at the provider.',
  },
  CONNECTION_PAUSED: {
    status: 409,
    retry: false,
    says: 'The connection is paused.',
    remedy: 'Resume it first.',
  },
  GRANT_REFUSED: {
    status: 409,
    retry: false,
    says: 'The provider rejects the grant of this connection.',
    remedy: 'Reconnect: open the connection.',
  },
  CLIENT_STOPPED: {
    status: 503,
    retry: true,
    says: 'The provider rejects the client itself.',
    remedy: 'Check the client\u2019s id and secret at the provider and enter them again.',
  },
  RENEWAL_PENDING: {
    status: 503,
    retry: true,
    says: 'The access token is being renewed.',
    remedy: 'Ask again after the time in Retry-After.',
  },
  SESSION_REFUSED: {
    status: 502,
    retry: true,
    says: 'The API did not open a session for the access token.',
    remedy: 'Read the answer. If it fails again, compare the session step of the definition with the API\u2019s documentation.',
  },
  CALLER_UNKNOWN: {
    status: 401,
    retry: false,
    says: 'The caller id or its key is wrong, or the key was retired.',
    remedy: 'Send them as Basic, or as `Authorization: Bearer ID.KEY`. Add a new key on the caller\u2019s page.',
  },
  NOT_PERMITTED: {
    status: 403,
    retry: false,
    says: 'This caller may not make this call.',
    remedy: 'Check the caller\u2019s permissions: *Callers > NAME*, or `rk caller show NAME`.',
  },
  PATH_UNSAFE: {
    status: 400,
    retry: false,
    says: 'The path of the call can be read in more than one way.',
    remedy: 'Send a plain path: no .., no //, no backslash, and no encoded dot or slash.',
  },
  METHOD_REFUSED: { status: 405, retry: false, says: 'This method does not pass the relay.', remedy: 'TRACE and CONNECT are never sent on.' },
  REVOKED: { status: 409, retry: false, says: 'The connection was revoked.', remedy: 'Reconnect: open the connection.' },
  QUOTA_USED_UP: {
    status: 429,
    retry: true,
    says: 'The provider\u2019s quota is used up for now.',
    remedy: 'Call again after the time in Retry-After. The call was not sent.',
  },
  UPSTREAM_BROKE: { status: 502, retry: true, says: 'The API broke off before its answer began.', remedy: 'Send the call again if it may be made twice.' },
  UPSTREAM_SLOW: { status: 504, retry: true, says: 'The API did not answer in time.', remedy: 'Send the call again if it may be made twice.' },
  WRITE_ON_LIVE: {
    status: 409,
    retry: false,
    says: 'This call may change something on a live connection.',
    remedy: 'Send `effects: true` to confirm.',
  },
  NO_LIST: {
    status: 422,
    retry: false,
    says: 'The response holds no list of records.',
    remedy: 'Choose an operation that lists records, or state where the list stands in the response.',
  },
  PAGE_FAILED: { status: 502, retry: true, says: 'The API did not send the page.', remedy: 'Make the call in Test call, and fix what it shows.' },
  REHEARSAL_RUNNING: { status: 409, retry: true, says: 'A rehearsal is running.', remedy: 'Wait until it is done, or cancel it: `rk rehearsal cancel ID`.' },
  RUN_OVERLAPS: { status: 409, retry: true, says: 'A run of this job is not finished.', remedy: 'Wait until it is done, or cancel it: `rk job cancel NAME`.' },
  RUN_ENDED: { status: 409, retry: false, says: 'The run has ended.', remedy: 'Run the job again.' },
  NOTICE_CLOSED: { status: 409, retry: false, says: 'A closed notice cannot be changed.', remedy: 'Nothing to do: its cause is gone.' },
  NO_RESULT: { status: 404, retry: true, says: 'There is no complete result yet.', remedy: 'Run the job, and read on its page why a run is not complete.' },
  SIGN_IN_REQUEST_EXPIRED: {
    status: 410,
    retry: false,
    says: 'This sign-in was started too long ago, or is answered.',
    remedy: 'Go back to the tool and start its sign-in again.',
  },
  SIGN_IN_REQUEST_INVALID: {
    status: 400,
    retry: false,
    says: 'The tool\u2019s sign-in request is invalid.',
    remedy: 'Compare the tool\u2019s settings with the setup instructions on the caller\u2019s page.',
  },
  HOST_NOT_LISTED: {
    status: 400,
    retry: false,
    says: 'The address is not one of the provider\u2019s API hosts.',
    remedy: 'Give a path, or an address below a base URL of the definition.',
  },
  PROVIDER_UNREACHABLE: {
    status: 502,
    retry: true,
    says: 'The provider could not be reached.',
    remedy: 'Check that the address resolves and answers from this machine.',
  },
  PROVIDER_BUSY: { status: 503, retry: true, says: 'The provider asked us to wait.', remedy: 'Ask again after the time in Retry-After.' },
  PROVIDER_RESPONSE_INVALID: {
    status: 502,
    retry: false,
    says: 'The provider\u2019s response is invalid.',
    remedy: 'Read the evidence under Activity on the connection\u2019s page.',
  },
  SEAL_BROKEN: {
    status: 500,
    retry: false,
    says: 'A sealed value does not open.',
    remedy: 'The row was moved or changed outside the service, or a key is missing: restore both from one backup.',
  },
  BACKUP_UNREADABLE: {
    status: 400,
    retry: false,
    says: 'The backup cannot be read.',
    remedy: 'Use another backup.',
  },
  NOT_EMPTY: {
    status: 409,
    retry: false,
    says: 'There is an installation here already.',
    remedy: 'Restore into an empty database and an empty data folder.',
  },
  MASTER_KEY_WRONG: { status: 500, retry: false, says: 'This master key does not belong to this database.', remedy: 'Use the master key whose id is shown.' },
  SETTING_INVALID: { status: 500, retry: false, says: 'A setting is not valid.', remedy: 'Fix this setting.' },
  FOLDER_OWNED: {
    status: 409,
    retry: false,
    says: 'Another running service owns this data folder.',
    remedy: 'Stop that one, or give this one a data folder of its own.',
  },
  DATABASE_UNAVAILABLE: { status: 503, retry: true, says: 'The database does not answer.', remedy: 'The service continues automatically once it is back.' },
  RECORD_INVALID: {
    status: 500,
    retry: false,
    says: 'A stored record does not have the expected form.',
    remedy: 'Restore the record from a backup. It was changed by hand, or by a newer version of this service.',
  },
  INTERNAL: { status: 500, retry: false, says: 'Something went wrong inside the service.', remedy: 'Look up the request id in the log.' },
} as const;

export type FaultCode = keyof typeof FAULTS;

/** One place in the input that is wrong, as a JSON path, a line where known, and what to do. */
export interface FaultPlace {
  path: string;
  line?: number;
  why: string;
  /** `unlikely`: it has the shape of another value. Whoever knows better sends it with `take_as_is`. */
  kind?: 'unlikely';
}

export interface FaultOptions extends ErrorOptions {
  /** One sentence about this case. Never a body, never a token. */
  detail?: string;
  /** Replaces the table's remedy where this case has a better one. */
  remedy?: string;
  places?: FaultPlace[];
  /** A lower bound for trying again, in milliseconds. */
  retryAfterMs?: number;
  /** How a sign-in goes on with a second factor. */
  secondFactor?: SecondFactorAsked;
}

/** What finishes a sign-in. */
export interface SecondFactorAsked {
  ticket: string;
  methods: ('code' | 'passkey')[];
  passkey_options: Record<string, unknown> | null;
}

/** An expected failure with a public code. Foreign errors are wrapped with `cause` where they enter. */
export class Fault extends Error {
  readonly code: FaultCode;
  readonly detail: string | undefined;
  readonly remedy: string;
  readonly places: FaultPlace[];
  readonly retryAfterMs: number | undefined;
  readonly secondFactor: SecondFactorAsked | undefined;

  constructor(code: FaultCode, options: FaultOptions = {}) {
    const { detail, remedy, places, retryAfterMs, secondFactor, ...rest } = options;
    super(detail ? `${FAULTS[code].says} ${detail}` : FAULTS[code].says, rest);
    this.name = 'Fault';
    this.code = code;
    this.detail = detail;
    this.remedy = remedy ?? FAULTS[code].remedy;
    this.places = places ?? [];
    this.retryAfterMs = retryAfterMs;
    this.secondFactor = secondFactor;
  }

  get status(): number {
    return FAULTS[this.code].status;
  }
}
