// Renders the documentation for the console's Help: one HTML fragment for each document, and an index. Plain Node.js, at build time.
import { mkdirSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { basename, dirname, join, posix, relative } from 'node:path';
import { Marked } from 'marked';

/** In the order of the Help page. */
const KINDS = [
  ['Tutorial', ['TUTORIAL.md']],
  ['How to', 'how-to'],
  ['Reference', ['CLI.md', 'API.md', 'ROLES.md', 'SETTINGS.md', 'LOG.md', 'DEFINITIONS.md', 'DIALECT.md', 'ERRORS.md', 'BENCHMARKS.md']],
  [
    'Explanation',
    [
      'RENEWAL.md',
      'CONSENT.md',
      'REGISTERING.md',
      'ISSUING.md',
      'JOBS.md',
      'PEOPLE.md',
      'UPCOMING.md',
      'NOTICES.md',
      'ACTIVITY.md',
      'BACKUP.md',
      'SECURITY.md',
      'ARCHITECTURE.md',
      'decisions',
    ],
  ],
];

const slug = (text) =>
  text
    .toLowerCase()
    .replace(/<[^>]*>|[^\p{L}\p{N} _-]/gu, '')
    .trim()
    .replaceAll(' ', '-');
const nameOf = (path) => path.replace(/\.md$/, '').toLowerCase().replaceAll('/', '.');
const escaped = (text) => text.replaceAll('&', '&amp;').replaceAll('<', '&lt;').replaceAll('"', '&quot;');

/** A link between documents stays inside the Help; others open elsewhere; what the console does not have is text. */
function hrefOf(href, from, known) {
  if (/^https?:/.test(href)) return href;
  const [file, anchor = ''] = href.split('#');
  const name = file === '' ? nameOf(from) : nameOf(posix.normalize(posix.join(posix.dirname(from), file)));
  return known.has(name) ? `#/help/${name}${anchor === '' ? '' : `/${anchor}`}` : null;
}

export function writeHelp(root, folder) {
  const docs = join(root, 'docs');
  const listed = (entry) =>
    entry.endsWith('.md')
      ? [entry]
      : readdirSync(join(docs, entry))
          .filter((name) => name.endsWith('.md'))
          .sort()
          .map((name) => posix.join(entry, name));
  const kinds = KINDS.map(([kind, entries]) => ({ kind, files: [entries].flat().flatMap(listed) }));
  const known = new Set(kinds.flatMap(({ files }) => files.map(nameOf)));
  mkdirSync(folder, { recursive: true });
  const titles = new Map();
  for (const file of kinds.flatMap(({ files }) => files)) {
    const text = readFileSync(join(docs, file), 'utf8').replace(/^<!--.*-->\n/, '');
    titles.set(file, /^# (.*)$/m.exec(text)?.[1] ?? basename(file, '.md'));
    const marked = new Marked({
      renderer: {
        heading({ tokens, depth, text: raw }) {
          return `<h${depth} id="${slug(raw.replaceAll('`', ''))}">${this.parser.parseInline(tokens)}</h${depth}>\n`;
        },
        link({ href, tokens }) {
          const to = hrefOf(href, file, known);
          const words = this.parser.parseInline(tokens);
          if (to === null) return words;
          return to.startsWith('#') ? `<a href="${escaped(to)}">${words}</a>` : `<a href="${escaped(to)}" target="_blank" rel="noopener">${words}</a>`;
        },
        image: () => '',
      },
    });
    // Our own documents, escaped by the renderer; what is written into them comes from this repository alone.
    writeFileSync(join(folder, `${nameOf(file)}.html`), marked.parse(text));
  }
  const index = kinds.map(({ kind, files }) => ({ kind, documents: files.map((file) => ({ name: nameOf(file), title: titles.get(file) })) }));
  writeFileSync(join(folder, 'index.json'), JSON.stringify(index));
}

if (process.argv[1] === import.meta.filename) {
  const root = join(dirname(import.meta.filename), '..');
  writeHelp(root, join(root, 'dist/console/help'));
  process.stdout.write(`${relative(root, join(root, 'dist/console/help'))}\n`);
}
