import fc from 'fast-check';
import { expect, test } from 'vitest';
import { cut, fitWidths } from './fit.ts';

test.each([
  { name: 'all fit', wanted: [10, 20], room: 80, want: [10, 20] },
  { name: 'the widest gives way', wanted: [10, 60, 5], room: 50, want: [10, 31, 5] },
  { name: 'two wide ones give way evenly', wanted: [40, 50], room: 62, want: [30, 30] },
  { name: 'a terminal that is too narrow for all', wanted: [30, 30, 4], room: 10, want: [8, 8, 4] },
])('$name', ({ wanted, room, want }) => expect(fitWidths(wanted, room)).toEqual(want));

test('no column is wider than it wants, and where there is room for all at their least width, a line fits the terminal', () =>
  fc.assert(
    fc.property(fc.array(fc.integer({ min: 0, max: 200 }), { minLength: 1, maxLength: 9 }), fc.integer({ min: 20, max: 240 }), (wanted, room) => {
      const widths = fitWidths(wanted, room);
      const total = (of: number[]) => of.reduce((sum, width) => sum + width, 2 * (of.length - 1));
      const least = total(wanted.map((width) => Math.min(width, 8)));
      return widths.every((width, at) => width <= (wanted[at] ?? 0)) && (least > room || total(widths) <= room);
    }),
  ));

test('a text is cut at its end, with a mark', () => expect([cut('sailings', 8), cut('sailings', 5), cut('', 0)]).toEqual(['sailings', 'sail\u2026', '']));
