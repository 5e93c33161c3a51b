import { ProviderDefinition } from './definition.ts';

const localHost = (host: string): string => (host.endsWith('.localhost') ? host : `${host.replace(/\.(example|test)$/, '')}.localhost`);

/**
 * A text whose addresses are moved to a simulated provider on loopback (RFC 6761 §6.3): `https://api.eelgrass.example` becomes
 * `http://api.eelgrass.localhost:PORT`, and `https://login.desk.com` becomes `http://login.desk.com.localhost:PORT`. Text is changed, not
 * a parsed document, so that comments stay.
 */
export const localiseText = (text: string, port: number): string =>
  text
    .replace(/\*\.([a-z0-9-]+(?:\.[a-z0-9-]+)+)/g, (_all, host: string) => `*.${localHost(host)}`)
    .replace(/https:\/\/([a-z0-9{][a-z0-9.{}_-]*[a-z0-9}])(:\d+)?/gi, (_all, host: string) => `http://${localHost(host.toLowerCase())}:${port}`)
    .replace(/http:\/\/([a-z0-9{][a-z0-9.{}_-]*\.localhost):\d+/g, (_all, host: string) => `http://${host}:${port}`);

/** A definition as a client of a rehearsal meets it: every address is that of the simulated provider on this port. */
export function rehearsed(definition: ProviderDefinition, port: number | null): ProviderDefinition {
  if (port === null) return definition;
  const moved = ProviderDefinition.parse(JSON.parse(localiseText(JSON.stringify(definition), port)));
  const page = `http://127.0.0.1:${port}/clients`;
  // A simulated provider has a console even where the definition names none.
  return moved.registration.page ? moved : { ...moved, registration: { ...moved.registration, page, client_page: `${page}/{client_id}` } };
}
