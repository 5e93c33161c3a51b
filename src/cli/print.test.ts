import { expect, test } from 'vitest';
import { plain } from './print.ts';

test.each([
  ['\u001b[2Jcleared', '[2Jcleared'],
  ['\u001b]0;a title\u0007after', ']0;a titleafter'],
  ['back\u0008space and \u009b31m', 'backspace and 31m'],
  ['two\nlines\tand a tab', 'two\nlines\tand a tab'],
  ['\u001b[32mworking\u001b[39m', '\u001b[32mworking\u001b[39m'], // colors of our own marks stay
  ['\u0007[31m', '[31m'],
])('%j is printed as %j', (text, printed) => expect(plain(text)).toBe(printed));
