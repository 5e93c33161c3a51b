import type { Express } from 'express';
import { Fault } from '../../core/fault.ts';
import type { AppParts } from './app-parts.ts';

/** What monitoring reads. */
export function healthRoutes(server: Express, parts: Pick<AppParts, 'notReady' | 'metrics'>): void {
  server.get('/healthz', (_request, response) => void response.json({ alive: true }));
  server.get('/readyz', (_request, response) => {
    const why = parts.notReady();
    response.status(why === null ? 200 : 503).json(why === null ? { ready: true } : { ready: false, why });
  });

  server.get('/metrics', async (request, response) => {
    const { metrics } = parts;
    if (metrics === null) throw new Fault('NOT_FOUND', { detail: 'Metrics are off.', remedy: 'Set RUSTY_KETTLE_METRICS_TOKEN and restart the service.' });
    if (!metrics.isAllowed(request.headers.authorization)) {
      response.setHeader('www-authenticate', 'Bearer realm="metrics"');
      throw new Fault('SIGN_IN_NEEDED', {
        detail: 'Metrics need their token.',
        remedy: 'Send the token of RUSTY_KETTLE_METRICS_TOKEN as Authorization: Bearer.',
      });
    }
    response.setHeader('cache-control', 'no-store');
    response.type(metrics.contentType).send(await metrics.text());
  });
}
