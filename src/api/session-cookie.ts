/**
 * The console's session cookie. Behind https it is bound to the host (RFC 6265bis §4.1.3.2). Over http, on loopback, cookies are shared by
 * all ports of the host: the port in the name keeps services apart by accident, not by force (docs/SECURITY.md).
 */
export const sessionCookieName = (publicUrl: string): string =>
  publicUrl.startsWith('https:') ? '__Host-rk_session' : `rk_session_${new URL(publicUrl).port || '80'}`;
