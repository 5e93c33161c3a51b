import type { ApiClient } from '../src/api/client.ts';
import { playInvitation } from '../src/standins/visitor.ts';
import { ROOT, type Running, start } from './processes.ts';
import type { Harbour } from './stage.ts';
import { keptCaller } from './tools.ts';

export const PORTAL_PORT = 7441;
const CONNECTION = 'crew-id';
const RETURN_TO = `http://127.0.0.1:${PORTAL_PORT}/done`;

/** The shared connection of the crew portal, with a few members who connected before. */
export async function seedPeople(harbour: Harbour, call: ApiClient): Promise<void> {
  await call('addConnection', { body: { name: CONNECTION, shared: true, provider: 'oakum', client: 'rehearsal', scopes: ['view.certificates'] } });
  await portalCaller(harbour, call);
  for (const [person, name, account] of EARLIER) {
    const { url } = await call('invitePerson', {
      params: { connection: CONNECTION },
      body: { person, name, purpose: 'Show your valid certificates on your page.', caller: 'crew-portal' },
    });
    if (account) await playInvitation(url, { account });
  }
}

/** Whoever has no account has not opened the link yet. */
const EARLIER: [person: string, name: string, account: string | null][] = [
  ['member-08', 'Ruth Quill', 'eg-1077'],
  ['member-11', 'Per Marsh', 'eg-2001'],
  ['member-31', 'Nell Holm', null],
];

const portalCaller = (harbour: Harbour, call: ApiClient) =>
  keptCaller(harbour, 'crew-portal', async () => {
    const made = await call('addCaller', { body: { name: 'crew-portal', title: 'Crew portal', redirect_uris: [RETURN_TO] } });
    await call('permitCaller', { params: { caller: 'crew-portal' }, body: { connection: CONNECTION, people: 'manage' } });
    return made;
  });

/** The portal: its members connect their own accounts from its pages. */
export async function startPortal(harbour: Harbour, call: ApiClient, onLine: (line: string) => void): Promise<Running> {
  const { items } = await call('listConnections', { query: { search: CONNECTION } });
  if (!items.some((one) => one.name === CONNECTION)) await seedPeople(harbour, call); // data of a demo before there were people
  const { caller_id, key } = await portalCaller(harbour, call);
  const settings = { SERVICE_URL: harbour.url, CONNECTION, CALLER_ID: caller_id, CALLER_KEY: key, PORT: String(PORTAL_PORT) };
  return start(`${ROOT}examples/crew-portal.mjs`, [], settings, (line) => line.startsWith('listening') || onLine(line));
}
