import { z } from 'zod';
import { Id, Instant, Label, OperatorName } from './common.ts';
import { ROLES } from './roles.ts';

export const Password = z.string().min(10, { error: 'At least 10 characters.' }).max(200);
const RoleWord = z.enum(ROLES);
const Limits = z.array(Label).max(50).describe('Limits the account to connections with one of these labels; none: no limit');
const Ticket = z.string().min(20).max(200);

export const FirstOperator = z.strictObject({ ticket: Ticket, name: OperatorName, password: Password });
const Device = z.string().max(400).describe('Of a program that signed in before: the one that came with its token');
export const SignIn = z.strictObject({
  name: OperatorName,
  password: z.string().max(200),
  keeps: z.enum(['cookie', 'token']).default('cookie'),
  device: Device.optional(),
});
/** What a browser's WebAuthn call returned, as JSON (WebAuthn §5.1.8). */
const PasskeyResponse = z.record(z.string(), z.unknown());
/** Proof of a second factor: a code of an authenticator app, a recovery code, or a passkey's answer. */
const Proof = {
  code: z.string().trim().max(40).optional().describe('Of the authenticator app, or a recovery code'),
  passkey: PasskeyResponse.optional().describe('The answer of the passkey'),
};
export const SecondStep = z.strictObject({ ticket: Ticket, ...Proof, device: Device.optional() });
export const ConfirmIdentity = z.strictObject({ password: z.string().max(200).optional(), ...Proof });
export const ChangePassword = z.strictObject({ current: z.string().min(1).max(200), password: Password });
export const EndedSessions = z.object({ ended: z.number().int() });
export const Session = z.object({
  operator: z.string(),
  role: RoleWord,
  labels: z.array(Label).describe('The account is limited to connections with one of these; none: no limit'),
  refused: z.array(z.string()).describe('Operations that this account may not call'),
  ends_at: Instant,
  installation: z.object({ public_url: z.string(), version: z.string(), practice: z.boolean().describe('Restored for practice') }),
});
export type Session = z.output<typeof Session>;
/** With `keeps: token` the token comes once, for a program that stores it itself. */
export const SignedIn = Session.extend({ token: z.string().optional(), device: z.string().optional() });
export const FirstOperatorState = z.object({ needed: z.boolean() });

export const OPERATOR_STATES = ['invited', 'active', 'disabled'] as const;
export type OperatorState = (typeof OPERATOR_STATES)[number];
export const SESSION_KINDS = ['browser', 'program', 'token'] as const;
export type SessionKind = (typeof SESSION_KINDS)[number];

export const OperatorSummary = z.object({
  name: OperatorName,
  role: RoleWord,
  labels: z.array(Label),
  state: z.enum(OPERATOR_STATES),
  second_factor: z.boolean().describe('Whether one is asked for at sign-in'),
  source: z.enum(['local', 'identity_provider']).describe('Where the account comes from'),
  sessions: z.number().int(),
  last_seen_at: Instant.nullable(),
  created_at: Instant,
  invited_by: z.string().nullable(),
  revision: z.number().int(),
});
export type OperatorSummary = z.output<typeof OperatorSummary>;

export const SessionView = z.object({
  id: Id,
  kind: z.enum(SESSION_KINDS).describe('`token`: a personal token'),
  name: z.string().nullable().describe('Of a personal token'),
  role: RoleWord.nullable().describe('Of a personal token: what it may do at most'),
  created_at: Instant,
  ends_at: Instant,
  last_used_at: Instant.nullable(),
  address: z.string().nullable().describe('From where it was used last'),
  agent: z.string().nullable().describe('The program that signed in, as it names itself'),
  current: z.boolean(),
});
export type SessionView = z.output<typeof SessionView>;
export const OperatorShown = OperatorSummary.extend({ session_list: z.array(SessionView) });

const NewOperatorName = OperatorName.refine((name) => name !== 'first' && name !== 'join', { error: 'This word is reserved.' });
export const InviteOperator = z.strictObject({ name: NewOperatorName, role: RoleWord, labels: Limits.default([]) });
export const OperatorLink = z.object({
  operator: OperatorName,
  url: z.string().describe('The one-time link on which the person sets a password. It is shown once'),
  ends_at: Instant,
});
export const ChangeOperator = z.strictObject({
  revision: z.number().int().optional(),
  name: NewOperatorName.optional().describe('Another name; the activity log keeps the former one'),
  role: RoleWord.optional(),
  labels: Limits.optional(),
  disabled: z.boolean().optional(),
});
export const ShowJoin = z.strictObject({ ticket: Ticket });
export const JoinShown = z.object({ operator: z.string(), role: RoleWord, labels: z.array(z.string()), ends_at: Instant, invited_by: z.string().nullable() });
export const JoinOperator = z.strictObject({ ticket: Ticket, password: Password });

export const FACTOR_KINDS = ['authenticator', 'passkey'] as const;
export type FactorKind = (typeof FACTOR_KINDS)[number];
export const SecondFactor = z.object({ id: Id, kind: z.enum(FACTOR_KINDS), name: z.string(), created_at: Instant, last_used_at: Instant.nullable() });
export const Account = z.object({
  operator: z.string(),
  role: RoleWord,
  labels: z.array(Label),
  has_password: z.boolean(),
  second_factors: z.array(SecondFactor),
  recovery_codes: z.number().int().describe('How many are left'),
  passkeys: z.object({ possible: z.boolean(), why: z.string().nullable() }),
  confirmed_until: Instant.nullable().describe('Until when sensitive actions do not ask again'),
  sessions: z.array(SessionView),
});
export type Account = z.output<typeof Account>;
export const ConfirmationAsked = z.object({
  password: z.boolean().describe('Whether the password is asked for'),
  methods: z.array(z.enum(['code', 'passkey'])).describe('One of them as well; empty: no second factor is set up'),
  passkey_options: z.record(z.string(), z.unknown()).nullable(),
});
export type ConfirmationAsked = z.output<typeof ConfirmationAsked>;
export const Confirmed = z.object({ until: Instant });

export const AddPersonalToken = z.strictObject({
  name: z.string().trim().min(1).max(60),
  role: RoleWord.default('viewer').describe('What it may do at most; never more than its owner'),
  days: z.number().int().min(1).max(366).default(90).describe('When it expires'),
});
export const PersonalTokenAdded = z.object({ id: Id, token: z.string().describe('It is shown once'), ends_at: Instant });
export const StartFactor = z.strictObject({ name: z.string().trim().min(1).max(60) });
export const AuthenticatorStarted = z.object({
  factor: Id,
  uri: z.string().describe('otpauth:// address, for the QR code'),
  secret: z.string().describe('The same, to type in (base32)'),
  qr: z.string().describe('The QR code as SVG'),
});
export const PasskeyStarted = z.object({ factor: Id, options: z.record(z.string(), z.unknown()) });
export const FinishFactor = z.strictObject({ ...Proof });
export const FactorFinished = z.object({ recovery_codes: z.array(z.string()).describe('One-time codes, shown once; empty: there are some already') });
export const RecoveryCodes = z.object({ recovery_codes: z.array(z.string()) });
