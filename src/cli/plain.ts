/** A text that came from a definition or a provider, without what would move the cursor, color or rename the terminal. */
export const plain = (text: string): string => text.replace(/\p{Cc}/gu, (found) => (found === '\n' || found === '\t' ? found : ''));
