/** How octets go over a line. */
export interface LineTiming {
  /** Octets go one after the other at this rate; 0: at once. Bits a second. */
  bitRate: number;
  /** Bits of a character on the line, start and stop bits included. */
  bitsPerOctet: number;
  keyUpMs: number;
  keyDownMs: number;
  quietMs: number;
}

export const NO_LINE_TIMING: LineTiming = { bitRate: 0, bitsPerOctet: 10, keyUpMs: 0, keyDownMs: 0, quietMs: 0 };

/** How long an octet takes, milliseconds. */
export const octetMs = ({ bitRate, bitsPerOctet }: LineTiming): number =>
  bitRate > 0 ? (1000 * bitsPerOctet) / bitRate : 0;
