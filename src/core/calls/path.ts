/** Ways of writing a path that different programs read differently, and control characters: rejected, never tidied. */
const AMBIGUOUS_PATH = /(^|\/)\.{1,2}(\/|;|$)|%(25)*(2e|2f|5c|3b)|%(25)*[01][0-9a-f]|%(25)*7f|\\|\/\/|#/i;
/** Longer than any path that an API documents. */
const MAX_PATH = 4_096;
/** What some programs fold to a slash or to a segment of dots: full-width and small forms, division and fraction slashes, dot leaders. */
const LOOK_ALIKE = /[\uff0f\uff3c\ufe68\u2044\u2215\u2216\u29f5\u29f8]|(?:^|\/)(?:\u2025|[.\uff0e\ufe52\u2024]{1,2})(?:\/|$)/u;

/** True for a path (without its query) that every program reads in the same way: short, plain ASCII, and valid UTF-8 once decoded. */
export const isPlainPath = (path: string): boolean =>
  path.length <= MAX_PATH && path.startsWith('/') && !AMBIGUOUS_PATH.test(path) && !/[^\x21-\x7e]/.test(path) && isReadAlike(path);

/** Valid UTF-8 once decoded, and still the same path where a program folds look-alike characters (`\uff0f` to `/`). */
function isReadAlike(path: string): boolean {
  if (!path.includes('%')) return true;
  try {
    const decoded = decodeURIComponent(path);
    return !LOOK_ALIKE.test(decoded);
  } catch {
    return false; // overlong or broken: programs differ in what they make of it
  }
}
