/** Parses an absolute address, or null. (`URL.parse` is not in every Node.js we run on.) */
export const parseUrl = (text: string): URL | null => (URL.canParse(text) ? new URL(text) : null);
