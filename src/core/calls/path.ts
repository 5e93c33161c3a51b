/** Ways of writing a path that different programs read differently, and control characters: rejected, never tidied. */
const AMBIGUOUS_PATH = /(^|\/)\.{1,2}(\/|;|$)|%(25)*(2e|2f|5c|3b)|%(25)*[01][0-9a-f]|%(25)*7f|\\|\/\/|#/i;
/** Longer than any path that an API documents. */
const PATH_MOST = 4_096;

/** True for a path (without its query) that every program reads in the same way: short, plain ASCII, and valid UTF-8 once decoded. */
export const isPlainPath = (path: string): boolean =>
  path.length <= PATH_MOST && path.startsWith('/') && !AMBIGUOUS_PATH.test(path) && !/[^\x21-\x7e]/.test(path) && isUtf8(path);

function isUtf8(path: string): boolean {
  if (!path.includes('%')) return true;
  try {
    decodeURIComponent(path);
    return true;
  } catch {
    return false; // overlong or broken: programs differ in what they make of it
  }
}
