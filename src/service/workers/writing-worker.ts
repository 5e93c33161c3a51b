import { type Layout, writerOf } from '../../core/output/format.ts';
import type { Format } from '../../core/output/formats.ts';

/** Records of one page as a part of a file. */
export interface WritingTask {
  /** The records as JSON text. */
  content: string;
  format: Format;
  layout: Layout;
  /** No record was written before. */
  isFirst: boolean;
}

export default ({ content, format, layout, isFirst }: WritingTask): Uint8Array =>
  Buffer.from(writerOf(format, layout, []).batch(JSON.parse(content) as unknown[], isFirst), 'utf8');
