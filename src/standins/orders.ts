import express, { type Request, Router } from 'express';
import { z } from 'zod';
import type { ProviderDefinition } from '../core/provider/definition.ts';
import { opaque } from './answers.ts';
import { readCertificate } from './console/parts.ts';
import { printCode } from './console/printed-code.ts';
import { addSecret, hasPart, openClient } from './console/record.ts';
import { FaultOrder, type Faults } from './faults.ts';
import { ListOrder, type Lists } from './lists.ts';
import type { Lives } from './server-parts.ts';
import type { StandinStore } from './state.ts';
import { ACCOUNTS } from './world.ts';

/** What a stand-in is set to by whoever plays with it: faults, lives, withdrawals, the staff's decisions; and what it counted. */
const LivesOrder = z.strictObject({
  access_seconds: z.number().int().min(1).max(86_400).optional(),
  session_seconds: z.number().int().min(1).max(86_400).optional(),
});
const WithdrawOrder = z.strictObject({ account: z.string().optional() });
const SecretsOrder = z.strictObject({ client_id: z.string(), retire_others: z.boolean().default(false) });
const SkewOrder = z.strictObject({ skew_ms: z.number().int().min(-35_000_000_000).max(35_000_000_000) });
const ClientOrder = z.strictObject({
  name: z.string().min(1),
  redirect_uri: z.url(),
  certificate: z.string().default(''),
  listed: z.string().default(''),
  approval: z.enum(['approved', 'requested']).default('approved'),
});
const ApprovalOrder = z.strictObject({
  client_id: z.string(),
  state: z.enum(['approved', 'rejected', 'info_requested']),
  says: z.string().max(500).default(''),
});
const KeyOrder = z.strictObject({ account: z.string() });
const CodeOrder = z.strictObject({ client_id: z.string(), account: z.string() });

export interface Orders {
  placeOf(request: Request): { realm: string; definition: ProviderDefinition };
  store: StandinStore;
  faults: Faults;
  lives: Lives;
  lists: Lists;
  counters: Record<string, number>;
  now(): number;
  skew(ms: number): void;
}

export function standinOrders(parts: Orders): Router {
  const { store } = parts;
  const control = Router().use(express.json(), express.urlencoded({ extended: false }));
  control.post('/faults', (request, response) => void response.json(parts.faults.order(FaultOrder.parse(request.body)) ?? { ordered: true }));
  control.delete('/faults', (_request, response) => void response.json(parts.faults.clear() ?? { cleared: true }));
  control.post('/lists', (request, response) => {
    parts.lists.order(ListOrder.parse(request.body));
    response.json({ lists: parts.lists.names() });
  });
  control.delete('/lists', (_request, response) => {
    parts.lists.clear();
    response.json({ cleared: true });
  });
  control.get('/lists', (_request, response) => void response.json({ lists: parts.lists.names() }));
  control.get('/lists/:list', (request, response) => void response.json({ ids: parts.lists.ids(request.params.list) }));
  control.post('/lives', (request, response) => {
    const { access_seconds: access, session_seconds: session } = LivesOrder.parse(request.body);
    if (access !== undefined) parts.lives.accessSeconds = access;
    if (session !== undefined) parts.lives.sessionSeconds = session;
    response.json(parts.lives);
  });
  control.post('/skew', (request, response) => {
    const { skew_ms: ms } = SkewOrder.parse(request.body);
    parts.skew(ms);
    response.json({ skew_ms: ms });
  });
  // A client in one go, as if someone had gone through all of the console: with everything opened, and approved.
  control.post('/clients', (request, response) => {
    const { name, redirect_uri: redirectUri, certificate, listed, approval } = ClientOrder.parse(request.body);
    if (certificate && !readCertificate(certificate)) return void response.status(400).json({ error: 'the certificate cannot be read' });
    const { realm, definition } = parts.placeOf(request);
    const client = openClient(definition, realm, name, parts.now());
    client.redirectUris = [redirectUri];
    if (certificate) client.certificates = [certificate];
    if (listed) [client.reach, client.listed] = ['listed', [listed]];
    client.approval.state = approval;
    if (hasPart(definition, 'project')) {
      client.project = 'Quick';
      store.state.projects[`${realm}/quick`] = { id: 'quick', name: client.project, realm };
    }
    const { value } = addSecret(definition, client, { now: parts.now() });
    store.state.clients[client.id] = client;
    store.touch();
    return void response.status(201).json({ client_id: client.id, client_secret: value });
  });
  control.post('/secrets', (request, response) => {
    const { client_id: id, retire_others: retire } = SecretsOrder.parse(request.body);
    const client = store.state.clients[id];
    if (!client) return void response.status(404).json({ error: 'unknown client' });
    if (retire) client.secrets = [];
    const { value } = addSecret(parts.placeOf(request).definition, client, { now: parts.now() });
    store.touch();
    return void response.json({ secret: value });
  });
  // The provider's staff decides.
  control.post('/approval', (request, response) => {
    const { client_id: id, state, says } = ApprovalOrder.parse(request.body);
    const client = store.state.clients[id];
    if (!client) return void response.status(404).json({ error: 'unknown client' });
    client.approval = { ...client.approval, state, says, changedAt: parts.now() };
    store.touch();
    return void response.json({ approval: state });
  });
  control.get(
    '/approvals',
    (_request, response) =>
      void response.json({
        waiting: Object.values(store.state.clients)
          .filter((client) => client.approval.state === 'requested')
          .map((client) => ({ client_id: client.id, name: client.name, answers: client.approval.answers })),
      }),
  );
  control.post('/printed-codes', (request, response) => {
    const { client_id: id, account } = CodeOrder.parse(request.body);
    const client = store.state.clients[id];
    if (!client || !ACCOUNTS.some((one) => one.sub === account)) return void response.status(404).json({ error: 'unknown client or account' });
    return void response.json({ code: printCode({ definition: parts.placeOf(request).definition, client, store, now: parts.now() }, account).code });
  });
  // A static key, as someone copied it from the provider's page long ago.
  control.post('/keys', (request, response) => {
    const { account } = KeyOrder.parse(request.body);
    const key = opaque('key.');
    store.state.apiKeys[key] = { sub: account, realm: parts.placeOf(request).realm };
    store.touch();
    response.status(201).json({ key });
  });
  // A refresh token, as an old script holds it: of a grant that someone gave that script.
  control.post('/script-tokens', (request, response) => {
    const { client_id: id, account } = CodeOrder.parse(request.body);
    const client = store.state.clients[id];
    if (!client || !ACCOUNTS.some((one) => one.sub === account)) return void response.status(404).json({ error: 'unknown client or account' });
    const grant = { id: opaque('g.'), clientId: id, sub: account, scopes: client.scopes, withdrawn: false, refreshes: 0, givenAt: parts.now() };
    const token = opaque('r.');
    store.state.grants[grant.id] = grant;
    store.state.refreshTokens[token] = { grantId: grant.id, replacedAt: null };
    store.touch();
    return void response.status(201).json({ refresh_token: token });
  });
  // As a provider that restarts: every session is gone, the tokens are good.
  control.delete('/sessions', (_request, response) => {
    store.state.sessions = {};
    store.touch();
    response.json({ ended: true });
  });
  control.post('/organization', (request, response) => {
    const { client_id: id } = SecretsOrder.parse(request.body);
    if (!store.state.adminConsented.includes(id)) store.state.adminConsented.push(id);
    store.touch();
    response.json({ agreed: true });
  });
  control.post('/withdraw', (request, response) => {
    const { account } = WithdrawOrder.parse(request.body ?? {});
    const hit = Object.values(store.state.grants).filter((grant) => !grant.withdrawn && (account === undefined || grant.sub === account));
    for (const grant of hit) grant.withdrawn = true;
    store.touch();
    response.json({ withdrawn: hit.length });
  });
  control.get(
    '/counters',
    (_request, response) =>
      void response.json({
        counters: parts.counters,
        refreshes: Object.values(store.state.grants).map((grant) => ({ account: grant.sub, refreshes: grant.refreshes, withdrawn: grant.withdrawn })),
      }),
  );
  return control;
}
