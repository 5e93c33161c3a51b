import { readFileSync, unwatchFile, watchFile } from 'node:fs';
import { createServer as createPlain, type IncomingMessage, type RequestListener, type Server, type ServerOptions } from 'node:http';
import { createServer as createSecure, type Server as SecureServer } from 'node:https';
import { createSecureContext, type SecureContextOptions, type TLSSocket } from 'node:tls';
import { Fault } from '../../core/fault.ts';
import type { Ports } from '../ports.ts';
import type { Settings } from '../settings.ts';
import type { PresentedCertificate } from '../tokens/index.ts';

type TlsSettings = NonNullable<Settings['tls']>;

const LOOK_EVERY_MS = 5_000;
const HANDSHAKE_MS = 10_000;
/** TLS 1.3 as it is; of TLS 1.2 only suites with forward secrecy and authenticated encryption (RFC 9325 §4.2). */
const CIPHERS = [
  ...['TLS_AES_256_GCM_SHA384', 'TLS_CHACHA20_POLY1305_SHA256', 'TLS_AES_128_GCM_SHA256'],
  ...['ECDHE-ECDSA-AES256-GCM-SHA384', 'ECDHE-RSA-AES256-GCM-SHA384', 'ECDHE-ECDSA-CHACHA20-POLY1305', 'ECDHE-RSA-CHACHA20-POLY1305'],
  ...['ECDHE-ECDSA-AES128-GCM-SHA256', 'ECDHE-RSA-AES128-GCM-SHA256'],
].join(':');

/** A server that answers; `stop` ends the watch over its files. */
export interface OpenServer {
  server: Server | SecureServer;
  stop(): void;
}

/**
 * HTTP, or HTTPS where a certificate is set. Its files are read again when they change: a renewed certificate needs no restart, and one that
 * cannot be read leaves the former in use.
 * @throws {Fault} SETTING_INVALID
 */
export function openServer(
  tls: TlsSettings | null,
  options: Pick<ServerOptions, 'ServerResponse'>,
  { listener, log }: { listener: RequestListener; log: Ports['log'] },
): OpenServer {
  if (tls === null) return { server: createPlain(options, listener), stop: () => undefined };
  const server = createSecure(
    {
      ...options,
      ...readTlsFiles(tls),
      handshakeTimeout: HANDSHAKE_MS,
      // Who has no certificate, or one that no authority of ours signed, goes on: with a key, or by its thumbprint.
      ...(tls.clientCertificates ? { requestCert: true, rejectUnauthorized: false } : {}),
    },
    listener,
  );
  server.on('tlsClientError', (error) => log.debug({ event: 'http.tls_failed', cause: error.message }, 'a TLS handshake failed'));
  const files = [tls.certificateFile, tls.keyFile, ...(tls.clientAuthorityFile === null ? [] : [tls.clientAuthorityFile])];
  const renewed = (): void => {
    try {
      server.setSecureContext(readTlsFiles(tls));
      log.info({ event: 'http.certificate_renewed' }, 'the TLS certificate was read again');
    } catch (error) {
      log.error(
        { event: 'http.certificate_unreadable', cause: error instanceof Error ? error.message : 'unknown' },
        'the new TLS certificate cannot be used; the former one stays',
      );
    }
  };
  for (const file of files) watchFile(file, { interval: LOOK_EVERY_MS, persistent: false }, renewed);
  return { server, stop: () => files.forEach((file) => void unwatchFile(file, renewed)) };
}

/** Reads the files. @throws {Fault} SETTING_INVALID */
export function readTlsFiles(tls: TlsSettings): SecureContextOptions {
  const read = (name: string, path: string): Buffer => {
    try {
      return readFileSync(path);
    } catch {
      throw new Fault('SETTING_INVALID', { detail: `RUSTY_KETTLE_TLS_${name} names ${path}, which cannot be read.` });
    }
  };
  const options: SecureContextOptions = {
    cert: read('CERTIFICATE_FILE', tls.certificateFile),
    key: read('KEY_FILE', tls.keyFile),
    ...(tls.clientAuthorityFile === null ? {} : { ca: read('CLIENT_CA_FILE', tls.clientAuthorityFile) }),
    minVersion: 'TLSv1.2',
    ciphers: CIPHERS,
  };
  try {
    createSecureContext(options);
  } catch (error) {
    throw new Fault('SETTING_INVALID', {
      detail: `The TLS certificate and key cannot be used (${(error as NodeJS.ErrnoException).code ?? 'unreadable'}).`,
      remedy: 'Both are PEM files; the certificate comes first in its file, before those of its authorities, and the key belongs to it.',
    });
  }
  return options;
}

/** How the certificates of callers come: in a header of the proxy in front, by the handshake with this service, or not at all. */
export function certificateReader({
  tls,
  certificateHeader,
}: Pick<Settings, 'tls' | 'certificateHeader'>): (request: IncomingMessage) => PresentedCertificate | undefined {
  if (certificateHeader !== null)
    return ({ headers }) => {
      const text = [headers[certificateHeader]].flat()[0];
      return text === undefined ? undefined : { text, isVerified: true };
    };
  if (!tls?.clientCertificates) return () => undefined;
  const known = new WeakMap<object, PresentedCertificate | undefined>();
  return ({ socket }) => {
    if (!known.has(socket)) {
      const secure = socket as TLSSocket;
      const certificate = secure.getPeerX509Certificate?.();
      known.set(socket, certificate && { text: certificate.toString(), isVerified: tls.clientAuthorityFile !== null && secure.authorized });
    }
    return known.get(socket);
  };
}
