/** The console's session cookie; behind https it is bound to the host (RFC 6265bis §4.1.3.2). */
export const sessionCookieName = (publicUrl: string): string => (publicUrl.startsWith('https:') ? '__Host-rk_session' : 'rk_session');
