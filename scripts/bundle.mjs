// Programs as few files instead of 1,500: they start in less than half the time.
import { relative, sep } from 'node:path';
import { rolldown } from 'rolldown';

/** Packages with code of their own to find at run time: native builds, worker threads, drivers that others load by name. */
const APART = /^(node:|@node-rs\/argon2|classic-level|mariadb|piscina|(pg|pg-hstore|sqlite3|tedious|oracledb|mysql2|snowflake-sdk|ibm_db)$)/;

/** What `rk --help` needs of others: one file, because each file costs a millisecond (`npm run bench -- start`). */
const AT_THE_START =
  /src\/(cli\/(exit|fit|print|plain|show|views\/job|collecting|consent-waiting|connect)|api\/(roles|vocabulary|relative-time|attempts|log-levels)|core\/(callers\/(permissions|setup-instructions)|certificates\/kinds|health|output\/formats|rehearsals\/scenarios|renewal\/plan|counted|diagnosis\/causes|oauth\/(grant-kinds|methods)|provider\/kinds))\.ts$/;

/** In a bundle the place of a module stays what it was: files beside it are found as if it stood in `dist/`. */
const ownPlaces = (root) => ({
  name: 'own-places',
  transform(code, id) {
    const path = relative(root, id).split(sep).join('/');
    if (!path.startsWith('src/') || !code.includes('import.meta.url')) return null;
    const place = JSON.stringify(`../${path.slice('src/'.length).replace(/\.ts$/, '.js')}`);
    return { code: code.replaceAll('import.meta.url', `new URL(${place}, import.meta.url).href`), map: null };
  },
});

/**
 * Bundles programs with what they import.
 * @param entries name of each output, without its ending, to the file that is its source
 * @param folder where they are written; each name has one folder, so that places stay right
 */
export async function bundle(root, entries, folder) {
  const built = await rolldown({
    input: entries,
    cwd: root,
    platform: 'node',
    external: (id) => APART.test(id),
    logLevel: 'silent',
    plugins: [ownPlaces(root)],
    treeshake: false,
  });
  // Nothing is left out, here and above: a call that only checks, such as decodeURIComponent, would be taken for one without effect.
  await built.write({
    ...{ dir: folder, format: 'esm', sourcemap: true, minify: false, entryFileNames: '[name].js', chunkFileNames: 'chunks/[name]-[hash].js' },
    codeSplitting: { groups: [{ name: 'start', test: AT_THE_START }], includeDependenciesRecursively: false },
  });
  await built.close();
}
