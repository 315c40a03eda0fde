import type { Result } from '../session/index.ts';

/**
 * A text of one octet a character and at most so many, printable ASCII alone or (`wide`) ISO 8859-1; or what is wrong
 * with it.
 */
export function octetText(text: string, most: number, wide: boolean): Result<string, string> {
  const fits = wide ? /[\x20-\x7e\xa0-\xff]/ : /[\x20-\x7e]/;
  const odd = [...text].find((character) => !fits.test(character));
  if (odd !== undefined) return { ok: false, problem: `"${odd}" is no character that the device can hold` };
  return text.length > most
    ? { ok: false, problem: `it has ${text.length} characters, more than the ${most} that fit` }
    : { ok: true, value: text };
}
