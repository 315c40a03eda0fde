/** What a new password has to be, wherever it is set. */

import { dictionary } from '@zxcvbn-ts/language-common';

const LEAST = 12;
const MOST = 256;
const COMMON = new Set(dictionary['passwords-common'].map((word) => word.toLowerCase()));

/** What is wrong with a new password, in words; null: nothing. */
export function passwordProblem(password: string, name: string): string | null {
  if (password.length < LEAST) return `at least ${LEAST} characters, this has ${password.length}`;
  if (password.length > MOST) return `at most ${MOST} characters, this has ${password.length}`;
  const plain = password.toLowerCase();
  // Many a long one is a common one with some figures, or twice the same.
  const core = plain.replace(/[^a-z]+$/, '').replace(/^[^a-z]+/, '');
  const half = plain.slice(0, plain.length / 2);
  if (COMMON.has(plain) || COMMON.has(core) || (half + half === plain && COMMON.has(half)))
    return 'it is one of those that are tried first';
  if (new Set(plain).size < 5) return 'it has fewer than 5 different characters';
  if (name.length >= 3 && plain.includes(name.toLowerCase())) return 'it has the name in it';
  return null;
}
