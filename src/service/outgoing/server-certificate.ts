import { isIP } from 'node:net';
import { connect } from 'node:tls';

const DEADLINE_MS = 5_000;
const KEPT_MS = 6 * 3_600_000;
const known = new Map<string, { at: number; endsAt: Promise<number | null> }>();

/**
 * When the TLS certificate that a public address shows expires, epoch ms; null: it is not https, or cannot be reached from here. Looked up
 * every six hours. Whether it is trusted is not asked: browsers say that at once, and an expiration comes by surprise.
 */
export async function serverCertificateEnd(address: string): Promise<number | null> {
  const url = new URL(address);
  if (url.protocol !== 'https:') return null;
  const seen = known.get(url.host);
  if (seen && performance.now() - seen.at < KEPT_MS) return seen.endsAt;
  const endsAt = look(url); // whoever asks meanwhile waits for the same look
  known.set(url.host, { at: performance.now(), endsAt });
  return endsAt;
}

const look = (url: URL): Promise<number | null> =>
  new Promise((resolve) => {
    const host = url.hostname.replace(/^\[|\]$/g, '');
    const socket = connect({
      host,
      port: Number(url.port || 443),
      ...(isIP(host) ? {} : { servername: host }),
      rejectUnauthorized: false,
      timeout: DEADLINE_MS,
    });
    const end = (at: number | null): void => {
      resolve(at);
      socket.destroy();
    };
    socket.once('secureConnect', () => {
      const at = Date.parse(socket.getPeerCertificate().valid_to);
      end(Number.isNaN(at) ? null : at);
    });
    socket.once('timeout', () => end(null));
    socket.once('error', () => end(null)); // not reachable from here: nothing is known
  });
