/** Octets as lower-case hexadecimal pairs with a space between: `05 64 0a`. */
export const toHex = (bytes: Uint8Array): string =>
  Array.from(bytes, (octet) => octet.toString(16).padStart(2, '0')).join(' ');

/** The octets of hexadecimal text; spaces are ignored. Throws on anything else: it is for texts of our own. */
export function fromHex(text: string): Uint8Array {
  const digits = text.replace(/\s+/g, '');
  if (!/^([0-9a-fA-F]{2})*$/.test(digits)) throw new Error(`not hexadecimal: ${text}`);
  return Uint8Array.from({ length: digits.length / 2 }, (_, i) => Number.parseInt(digits.slice(2 * i, 2 * i + 2), 16));
}

/** All of them as one, always as a copy. */
export function concat(parts: readonly Uint8Array[]): Uint8Array {
  let length = 0;
  for (const part of parts) length += part.length;
  const whole = new Uint8Array(length);
  let at = 0;
  for (const part of parts) {
    whole.set(part, at);
    at += part.length;
  }
  return whole;
}

export const sameBytes = (a: Uint8Array, b: Uint8Array): boolean =>
  a.length === b.length && a.every((octet, i) => octet === b[i]);
