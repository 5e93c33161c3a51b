/** What a key does. */
export type Shortcut = { does: 'palette' } | { does: 'help' } | { does: 'search' } | { does: 'go'; path: string };

/** The keys, as the list under `?` shows them. */
export const SHORTCUTS: readonly { keys: string; does: string }[] = [
  { keys: 'Ctrl K', does: 'Find any object, page or action' },
  { keys: '/', does: 'Search the list on this page' },
  { keys: 'g, then o c p l a s h', does: 'Go to Overview, Connections, Providers, Callers, Activity, Settings, Help' },
  { keys: '?', does: 'Show these shortcuts' },
  { keys: 'Esc', does: 'Close a dialog or menu' },
];

/** How long after `g` the next key still counts, ms. */
const CHORD_MS = 1_500;

interface Press {
  key: string;
  ctrlKey: boolean;
  metaKey: boolean;
  altKey: boolean;
  /** Typed into a field: then only those with Ctrl count. */
  inField: boolean;
  at: number;
}

/** Reads key presses one after another: some shortcuts are two keys. */
export function shortcutReader(places: readonly { path: string; key: string }[]): (press: Press) => Shortcut | null {
  let goAt = Number.NEGATIVE_INFINITY;
  return ({ key, ctrlKey, metaKey, altKey, inField, at }) => {
    if ((ctrlKey || metaKey) && !altKey && key.toLowerCase() === 'k') return { does: 'palette' };
    if (inField || ctrlKey || metaKey || altKey) return null;
    if (at - goAt <= CHORD_MS) {
      goAt = Number.NEGATIVE_INFINITY;
      const place = places.find((one) => one.key === key);
      return place ? { does: 'go', path: place.path } : null;
    }
    if (key === 'g') goAt = at;
    if (key === '?') return { does: 'help' };
    return key === '/' ? { does: 'search' } : null;
  };
}
