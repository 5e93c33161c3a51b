/** Light or dark: what the person chose, else what the system prefers. */
type Theme = 'kettle-day' | 'kettle-night';
const KEY = 'rusty-kettle-theme';

class Look {
  theme = $state<Theme>('kettle-day');

  apply(): void {
    const kept = localStorage.getItem(KEY);
    const dark = window.matchMedia('(prefers-color-scheme: dark)').matches;
    this.#set(kept === 'kettle-day' || kept === 'kettle-night' ? kept : dark ? 'kettle-night' : 'kettle-day');
  }

  toggle(): void {
    this.#set(this.theme === 'kettle-day' ? 'kettle-night' : 'kettle-day');
    localStorage.setItem(KEY, this.theme);
  }

  #set(theme: Theme): void {
    this.theme = theme;
    document.documentElement.dataset.theme = theme;
  }
}

export const look = new Look();
