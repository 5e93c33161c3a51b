/** A sensitive action waits until the operator has confirmed who they are. */
class Confirming {
  /** Answers the action that waits; null: none does. */
  waiting = $state.raw<((confirmed: boolean) => void) | null>(null);

  /** Resolves when the operator confirmed, or gave up. */
  ask(): Promise<boolean> {
    this.waiting?.(false);
    return new Promise((resolve) => {
      this.waiting = (confirmed) => {
        this.waiting = null;
        resolve(confirmed);
      };
    });
  }
}
export const confirming = new Confirming();
