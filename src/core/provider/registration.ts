import { z } from 'zod';
import { CLIENT_TYPES } from './kinds.ts';
import { webAddress } from './web-address.ts';

/** What a definition states of registering a client at the provider: pages, parts, rules and the questions of its forms. */
const text = (most: number) => z.string().max(most);

/** Answers that forms ask for again and again. They are given once for the installation. */
export const ANSWERS = ['organization', 'purpose', 'contact', 'platform', 'home_page', 'privacy_page', 'terms_page'] as const;

/** What the developer console of a provider may ask for, in our words. */
const REGISTRATION_PARTS = [
  'project',
  'type',
  'consent_page',
  'apis',
  'scopes',
  'domains',
  'redirect_uris',
  'reach',
  'secrets',
  'certificates',
  'service_user',
  'access_request',
  'printed_code',
] as const;
export type RegistrationPart = (typeof REGISTRATION_PARTS)[number];

/** What redirect URIs a provider takes. */
export const RedirectRules = z.strictObject({
  https: z.enum(['always', 'except_loopback', 'not_needed']).default('except_loopback'),
  ip: z.enum(['taken', 'loopback_only', 'refused']).default('taken').describe('Whether a bare IP address may stand for the host'),
  listed_domain: z.boolean().default(false).describe('The provider must list its host beforehand'),
  loopback_port: z
    .enum(['any', 'fixed'])
    .default('any')
    .describe('Whether a loopback redirect URI may come with another port than the registered one (RFC 8252 \u00a77.3)'),
});
export type RedirectRules = z.output<typeof RedirectRules>;
export const PLAIN_REDIRECT_RULES: RedirectRules = RedirectRules.parse({});

const Part = z.strictObject({
  part: z.enum(REGISTRATION_PARTS),
  title: text(60).min(1).describe('Its name at the provider'),
});

const Question = z.strictObject({
  question: text(200).min(1).describe('In the provider\u2019s words'),
  answer: z.enum(ANSWERS).optional().describe('Which of our answers fits; left out: it is answered for each client'),
});

export const Registration = z.strictObject({
  page: webAddress('registration.page').optional(),
  client_page: webAddress('registration.client_page').optional().describe('The page of one client at the provider; holds {client_id}'),
  note: text(400).optional(),
  client_types: z.array(z.enum(CLIENT_TYPES)).min(1).default(['web']),
  parts: z.array(Part).max(REGISTRATION_PARTS.length).default([]).describe('What its console asks for, in the order of its pages'),
  redirect_uri: RedirectRules.default(PLAIN_REDIRECT_RULES).describe('What redirect URIs it takes'),
  secrets_shown: z.enum(['once', 'again']).default('once'),
  secret_days_most: z.number().int().min(1).max(3650).optional().describe('Secrets end after so many days'),
  printed_code_seconds: z
    .number()
    .int()
    .min(30)
    .max(86_400)
    .optional()
    .describe('How long a code lives that its console prints; left out: not known, and 4 minutes are assumed'),
  roles: z.array(text(60).min(1)).max(20).default([]).describe('Roles of a service user; the first is the one that is needed'),
  approval: z.enum(['not_needed', 'needed']).default('not_needed'),
  form: z.array(Question).max(30).default([]).describe('The questions of its access request form'),
});
export type Registration = z.output<typeof Registration>;
export const PLAIN_REGISTRATION: Registration = Registration.parse({});
