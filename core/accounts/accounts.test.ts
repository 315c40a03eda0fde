import { expect, test } from 'vitest';
import { nameProblem, normalName, passwordProblem } from './index.ts';

test('names: compatibility forms are one, and what cannot be told apart is refused', () => {
  expect(normalName(' Ａｄａ ')).toBe('Ada');
  expect(normalName('ﬁeld')).toBe('field');
  for (const good of ['ada', 'Ada Lovelace', 'o’brien', 'Søren', 'Ольга', '山田 たろう', 'station-7'])
    expect(nameProblem(good), good).toBeNull();
  expect(nameProblem('   ')).toBe('at least 1 character');
  expect(nameProblem('x'.repeat(65))).toBe('at most 64 characters, this has 65');
  expect(nameProblem('ad\u0007a')).toBe('the character U+0007 is not shown');
  expect(nameProblem('ada\u202Egnp')).toBe('the character U+202E is not shown');
  expect(nameProblem('ad\u200Ba')).toBe('the character U+200B is not shown');
  // Latin with a Cyrillic a, which looks the same.
  expect(nameProblem('аda')).toBe('its letters are of several scripts (Cyrillic, Latin), and some look alike');
});

test('passwords: length, the name, and how many guesses they take', () => {
  expect(passwordProblem('short', 'ada')).toBe('at least 12 characters, this has 5');
  expect(passwordProblem('x'.repeat(257), 'ada')).toBe('at most 256 characters, this has 257');
  expect(passwordProblem('under ada bridge', 'Ada')).toBe('it has the name in it');
  for (const weak of [
    'password123456',
    'Password1234',
    'qwertyuiop12',
    'aaaaaaaaaaaa',
    'abcabcabcabc',
    'P@ssw0rd!2024',
    '123456789012',
    'halvixhalvix',
  ])
    expect(passwordProblem(weak, 'ada'), weak).toMatch(/^it is one of those that are tried first/);
  for (const good of ['river stone lamp 4', 'volcano-mist-87', 'xT9$kq!vR2mz', '水力発電所の鍵は赤い箱の中'])
    expect(passwordProblem(good, 'ada'), good).toBeNull();
});
