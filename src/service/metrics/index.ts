/** The face of this room: figures for a monitoring system. */
export { type MetricParts, metrics } from './metrics.ts';
