/** First segments of the paths that are this service's own. */
const OURS = ['api', 'oauth', 'door', 'relay', 'consent', 'connections', 'assets', 'healthz', 'readyz', 'metrics', 'favicon.ico', 'index.html'];
const FORM = /^\/[A-Za-z0-9._~-]+(?:\/[A-Za-z0-9._~-]+){0,9}$/;

/**
 * Why a caller may not have this further token path, in words, or null. Tools that build the token path from fixed boxes ask for such
 * a path; it may not meet a path of ours, nor be written in a way that programs read differently.
 */
export function whyNoTokenPath(path: string): string | null {
  if (path.length > 200 || !FORM.test(path)) return 'A path such as /acme/token: segments of letters, digits and . _ ~ -, no slash at the end.';
  const segments = path.split('/').slice(1);
  if (segments.some((segment) => /^\.+$/.test(segment))) return 'It holds . or .. as a segment.';
  const first = (segments[0] ?? '').toLowerCase();
  if (first.startsWith('.well-known')) return 'Below /.well-known/ stands what the standards name.';
  if (OURS.includes(first)) return `/${first} is a path of this service.`;
  return null;
}
