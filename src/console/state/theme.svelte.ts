/** Light or dark: what the person chose, else what the system prefers. */
type ThemeName = 'kettle-day' | 'kettle-night';
const KEY = 'rusty-kettle-theme';

class Theme {
  current = $state<ThemeName>('kettle-day');

  apply(): void {
    const kept = localStorage.getItem(KEY);
    const dark = window.matchMedia('(prefers-color-scheme: dark)').matches;
    this.#set(kept === 'kettle-day' || kept === 'kettle-night' ? kept : dark ? 'kettle-night' : 'kettle-day');
  }

  toggle(): void {
    this.#set(this.current === 'kettle-day' ? 'kettle-night' : 'kettle-day');
    localStorage.setItem(KEY, this.current);
  }

  #set(theme: ThemeName): void {
    this.current = theme;
    document.documentElement.dataset.theme = theme;
  }
}

export const theme = new Theme();
