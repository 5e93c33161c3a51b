import { type Layout, writerOf } from '../../core/output/format.ts';
import type { Format } from '../../core/output/formats.ts';

/** Records of some pages as a part of a file. */
export interface WritingTask {
  /** The records of each page as JSON text. */
  contents: string[];
  format: Format;
  layout: Layout;
  /** No record was written before. */
  isFirst: boolean;
}

export default ({ contents, format, layout, isFirst }: WritingTask): Uint8Array => {
  const writer = writerOf(format, layout, []);
  return Buffer.from(contents.map((content, at) => writer.batch(JSON.parse(content) as unknown[], isFirst && at === 0)).join(''), 'utf8');
};
