/** Time is state, ticked in one place. Epoch ms, once a second. */
class Clock {
  now = $state(Date.now());

  constructor() {
    setInterval(() => {
      this.now = Date.now();
    }, 1_000);
  }
}

export const clock = new Clock();
