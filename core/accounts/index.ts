import { ZxcvbnFactory } from '@zxcvbn-ts/core';
import { adjacencyGraphs, dictionary } from '@zxcvbn-ts/language-common';

/* What names of accounts and new passwords have to be, wherever they are set. */

export const LONGEST_NAME = 64;

/**
 * A name as it is kept and looked for: compatibility forms and widths are one (NFKC), spaces around it are nobody's (after
 * RFC 8265, UsernameCasePreserved; spaces within are allowed).
 */
export const normalName = (name: string): string => name.normalize('NFKC').trim();

/** Letters of one of these are written together; of others only among themselves (after UTS 39, highly restrictive). */
const SCRIPTS_TOGETHER = [
  ['Latin', 'Han', 'Hiragana', 'Katakana'],
  ['Latin', 'Han', 'Hangul'],
  ['Latin', 'Han', 'Bopomofo'],
];
const SCRIPTS = [
  ...['Latin', 'Greek', 'Cyrillic', 'Armenian', 'Hebrew', 'Arabic', 'Devanagari', 'Bengali', 'Tamil', 'Telugu', 'Thai'],
  ...['Georgian', 'Hangul', 'Ethiopic', 'Khmer', 'Han', 'Hiragana', 'Katakana', 'Bopomofo'],
].map((script) => ({ script, holds: new RegExp(`^\\p{Script=${script}}$`, 'u') }));
const scriptOf = (letter: string): string => SCRIPTS.find(({ holds }) => holds.test(letter))?.script ?? 'another';

/** What is wrong with the name of an account, in words; null: nothing. */
export function nameProblem(name: string): string | null {
  const kept = normalName(name);
  if (kept === '') return 'at least 1 character';
  if ([...kept].length > LONGEST_NAME) return `at most ${LONGEST_NAME} characters, this has ${[...kept].length}`;
  const bad = /[\p{C}\p{Zl}\p{Zp}]|(?! )\p{Zs}/u.exec(kept);
  if (bad)
    return `the character U+${(bad[0].codePointAt(0) ?? 0).toString(16).toUpperCase().padStart(4, '0')} is not shown`;
  const scripts = new Set([...kept].filter((one) => /\p{L}/u.test(one)).map(scriptOf));
  const isTogether =
    scripts.size < 2 || SCRIPTS_TOGETHER.some((some) => [...scripts].every((one) => some.includes(one)));
  return isTogether ? null : `its letters are of several scripts (${[...scripts].join(', ')}), and some look alike`;
}

const LEAST = 12;
const MOST = 256;
/** Of 0 to 4: from 3 on it takes more than a hundred million guesses. */
const LEAST_SCORE = 3;
/** What is longer is strong enough by that; looking at it would take long. */
const LOOKED_AT = 64;
const estimator = new ZxcvbnFactory({ dictionary, graphs: adjacencyGraphs });

/** What is wrong with a new password, in words; null: nothing. */
export function passwordProblem(password: string, name: string): string | null {
  if (password.length < LEAST) return `at least ${LEAST} characters, this has ${password.length}`;
  if (password.length > MOST) return `at most ${MOST} characters, this has ${password.length}`;
  if (name.length >= 3 && password.toLowerCase().includes(name.toLowerCase())) return 'it has the name in it';
  const { score } = estimator.check(password.slice(0, LOOKED_AT), [name, 'halvix']);
  return score < LEAST_SCORE
    ? 'it is one of those that are tried first; several words, or more characters, are not'
    : null;
}
