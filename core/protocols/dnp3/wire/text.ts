/** An octet string has 1 to 255 octets: its length is its variation (IEEE 1815, annexes A.46 and A.47). */
export const MAX_TEXT_OCTETS = 255;

/** The octets as text, a character an octet (ISO 8859-1). Zeros at the end are filling; others become spaces. */
export const textOf = (octets: Uint8Array): string =>
  Array.from(octets, (octet) => String.fromCharCode(octet))
    .join('')
    .replace(/\0+$/, '')
    .replaceAll('\0', ' ');

/** And back; what is no such character becomes `?`, an empty text one zero. */
export function octetsOf(text: string): Uint8Array {
  const octets = Uint8Array.from(text.slice(0, MAX_TEXT_OCTETS), (character) => {
    const code = character.charCodeAt(0);
    return code > 0xff ? 0x3f : code;
  });
  return octets.length > 0 ? octets : new Uint8Array(1);
}
