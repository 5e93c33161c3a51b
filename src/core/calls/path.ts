/** Ways of writing a path that different programs read differently, and control characters: refused, never tidied. */
const AMBIGUOUS_PATH = /(^|\/)\.{1,2}(\/|;|$)|%(25)*(2e|2f|5c)|%[01][0-9a-f]|%7f|\\|\/\/|#/i;

/** True for a path (without its query) that every program reads in the same way. */
export const isPlainPath = (path: string): boolean => path.startsWith('/') && !AMBIGUOUS_PATH.test(path) && !/[^\x21-\x7e]/.test(path);
