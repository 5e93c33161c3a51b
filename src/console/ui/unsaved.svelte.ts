const QUESTION = 'Discard what you entered on this page?';

/** What was typed and not saved yet. A page that has some asks before it is left. */
export class Unsaved {
  isDirty = $state(false);
  readonly #confirm: (question: string) => boolean;

  constructor(confirm: (question: string) => boolean) {
    this.#confirm = confirm;
  }

  /** May the page be left? What was typed is then given up. */
  mayLeave(): boolean {
    if (!this.isDirty) return true;
    if (!this.#confirm(QUESTION)) return false;
    this.isDirty = false;
    return true;
  }

  /** For closing and reloading, where the browser asks in its own words. */
  readonly beforeUnload = (event: Pick<BeforeUnloadEvent, 'preventDefault'>): void => {
    if (this.isDirty) event.preventDefault();
  };

  /** For links to other pages of the console. */
  readonly beforeLink = (event: Pick<MouseEvent, 'target' | 'preventDefault' | 'stopPropagation'>): void => {
    const link = event.target instanceof Element ? event.target.closest('a[href^="#/"]') : null;
    if (!link || this.mayLeave()) return;
    event.preventDefault();
    event.stopPropagation();
  };
}
