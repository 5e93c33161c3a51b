import type { Send } from '../core/oauth/wire.ts';

/** What of the work is traced. Names stay the same from version to version. */
type SpanName = 'token.issue' | 'token.renew' | 'relay.call' | 'job.run' | 'provider.request';
type Attributes = Record<string, string | number | boolean>;

/** Spans of OpenTelemetry; off unless a receiver is set. No attribute holds a secret, an account or a person's key. */
export interface Traces {
  readonly isOn: boolean;
  /** @param work may note more of what it did */
  span<T>(name: SpanName, attributes: Attributes, work: (note: (more: Attributes) => void) => Promise<T>): Promise<T>;
  stop(): Promise<void>;
}

const nothing = (): void => undefined;
export const noTraces: Traces = { isOn: false, span: (_name, _attributes, work) => work(nothing), stop: async () => undefined };

const STOP_WITHIN_MS = 5_000;

/**
 * Sends spans by OTLP over HTTP (JSON), in batches. The packages are loaded only where a receiver is set. What the receiver does not take
 * is dropped: tracing must never hold up work.
 * @param url such as `http://collector.example:4318/v1/traces`
 */
export async function openTraces(url: string, about: { version: string; instance: string }): Promise<Traces> {
  const [{ context, SpanStatusCode, trace }, { AsyncLocalStorageContextManager }, { OTLPTraceExporter }, { resourceFromAttributes }, sdk] = await Promise.all([
    import('@opentelemetry/api'),
    import('@opentelemetry/context-async-hooks'),
    import('@opentelemetry/exporter-trace-otlp-http'),
    import('@opentelemetry/resources'),
    import('@opentelemetry/sdk-trace-base'),
  ]);
  context.setGlobalContextManager(new AsyncLocalStorageContextManager().enable());
  const provider = new sdk.BasicTracerProvider({
    resource: resourceFromAttributes({ 'service.name': 'rusty-kettle', 'service.version': about.version, 'service.instance.id': about.instance }),
    spanProcessors: [new sdk.BatchSpanProcessor(new OTLPTraceExporter({ url }))],
  });
  const tracer = provider.getTracer('rusty-kettle', about.version);
  return {
    isOn: true,
    span: (name, attributes, work) => {
      const span = tracer.startSpan(name, { attributes });
      return context.with(trace.setSpan(context.active(), span), async () => {
        try {
          return await work((more) => void span.setAttributes(more));
        } catch (error) {
          // The class of the error only: its text may quote what came from outside.
          span.setStatus({ code: SpanStatusCode.ERROR, message: error instanceof Error ? error.name : 'unknown' });
          throw error;
        } finally {
          span.end();
        }
      });
    },
    stop: () => Promise.race([provider.shutdown().catch(() => undefined), new Promise<void>((resolve) => setTimeout(resolve, STOP_WITHIN_MS).unref())]), // the receiver is away
  };
}

/** Requests to providers as spans: host and status, never the path, which may hold what is secret. */
export const tracedSend =
  (traces: Traces, send: Send): Send =>
  (request) =>
    traces.isOn
      ? traces.span('provider.request', { 'server.address': new URL(request.url).host, 'http.request.method': request.method }, async (note) => {
          const answer = await send(request);
          if ('status' in answer) note({ 'http.response.status_code': answer.status });
          return answer;
        })
      : send(request);
