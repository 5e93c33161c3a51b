// Loaded into a service under test: its machine's clock is set by so many ms when SIGUSR2 comes.
const real = Date.now.bind(Date);
let byMs = 0;
const RealDate = Date;
globalThis.Date = class extends RealDate {
  constructor(...given) {
    super(...(given.length === 0 ? [real() + byMs] : given));
  }
  static now() {
    return real() + byMs;
  }
};
process.on('SIGUSR2', () => {
  byMs = Number(process.env.TEST_SET_CLOCK_MS);
  process.stderr.write('the clock is set\n');
});
