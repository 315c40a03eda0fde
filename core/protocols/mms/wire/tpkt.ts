import { concat } from '../../../bytes/index.ts';

/*
 * Packets on a TCP stream (RFC 1006, section 6):
 *
 *   version 1  reserved 1  length 2 (of the whole packet, most significant octet first)  TPDU …
 *    03         00
 */

const HEADER_OCTETS = 4;
const VERSION = 3;
/** A header, and the least that a TPDU has. */
const LEAST_OCTETS = 7;
export const MAX_TPKT = 65_535;

export function encodeTpkt(tpdu: Uint8Array): Uint8Array {
  const length = HEADER_OCTETS + tpdu.length;
  return concat([Uint8Array.of(VERSION, 0, length >> 8, length & 0xff), tpdu]);
}

/** Finds packets in a stream; once the stream is out of step it stays so, and the connection has to go. */
export class TpktReader {
  private pending: Uint8Array[] = [];
  private octets = 0;
  private failed: string | null = null;

  /** What is wrong with the stream; null: nothing. */
  get problem(): string | null {
    return this.failed;
  }

  /** TPDUs that are whole with these octets. */
  push(bytes: Uint8Array): Uint8Array[] {
    if (this.failed !== null) return [];
    this.pending.push(bytes);
    this.octets += bytes.length;
    const found: Uint8Array[] = [];
    for (;;) {
      if (this.octets < HEADER_OCTETS) return found;
      const [first] = this.gathered(HEADER_OCTETS);
      const length = (first[2] << 8) | first[3];
      if (first[0] !== VERSION || length < LEAST_OCTETS) {
        this.failed =
          first[0] === VERSION ? `a packet of ${length} octets` : `octet ${first[0]} where a packet begins with 3`;
        return found;
      }
      if (this.octets < length) return found;
      const [whole] = this.gathered(length);
      found.push(whole.subarray(HEADER_OCTETS, length));
      const rest = whole.subarray(length);
      this.pending[0] = rest;
      this.octets -= length;
    }
  }

  /** The first so many octets lie in one piece. */
  private gathered(count: number): Uint8Array[] {
    if (this.pending[0].length < count) this.pending = [concat(this.pending)];
    return this.pending;
  }
}
