/** Text as it stands in HTML, in elements and attributes alike. */
export const escapeHtml = (text: string): string => text.replace(/[&<>"']/g, (c) => `&#${c.charCodeAt(0)};`);
