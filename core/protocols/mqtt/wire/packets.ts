import { parser, writeToStream, type Packet } from 'mqtt-packet';
import { concat } from '../../../bytes/index.ts';
import type { Result } from '../../../session/index.ts';

export type { Packet } from 'mqtt-packet';

/** 3.1.1 and 5, by the octet that CONNECT says (MQTT 3.1.1 and 5.0, 3.1.2.2). */
export type Version = 4 | 5;

/** Packets longer than this are not taken: they are said to be too long before they have come. */
export const MOST_OCTETS = 1 << 20;

/** A packet as octets. Throws where it cannot be written, as with a topic of 70,000 octets. */
export function octetsOf(packet: Packet, version: Version): Uint8Array {
  const pieces: Uint8Array[] = [];
  // As much of a stream as the library asks for.
  const stream = {
    write: (piece: Uint8Array | string) =>
      pieces.push(typeof piece === 'string' ? new TextEncoder().encode(piece) : piece) > 0,
    destroy: (error: Error) => {
      throw error;
    },
  };
  writeToStream(packet, stream as unknown as Parameters<typeof writeToStream>[1], { protocolVersion: version });
  return concat(pieces);
}

/** A packet with its octets as they came. */
export interface Read {
  packet: Packet;
  octets: Uint8Array;
}

/**
 * Packets from octets, in any pieces. Where one ends is found here, so that its length is known to be bounded before any of it
 * is kept; what it says is read by the library.
 *
 *     ┌──────────────┬───────────────────────────────┬─────────────────────┐
 *     │ type 4, flags│ remaining length              │ that many octets    │
 *     │ 4 bits       │ 1 to 4 octets, 7 bits each    │                     │
 *     └──────────────┴───────────────────────────────┴─────────────────────┘
 */
export class PacketReader {
  private waiting: Uint8Array = new Uint8Array(0);

  /** `version`: what is spoken; CONNECT says another. */
  constructor(public version: Version) {}

  /** What has come whole; a problem: nothing can be read from this connection any more. */
  push(octets: Uint8Array): Result<Read[], string> {
    this.waiting = this.waiting.length === 0 ? octets : concat([this.waiting, octets]);
    const read: Read[] = [];
    for (let from = 0; ;) {
      const length = wholeLength(this.waiting, from);
      if (length === 'malformed') return problem('the length of a packet has more than 4 octets');
      if (length !== null && length > MOST_OCTETS)
        return problem(`a packet of ${length} octets came, and at most ${MOST_OCTETS} are taken`);
      if (length === null || from + length > this.waiting.length) {
        this.waiting = this.waiting.slice(from);
        return { ok: true, value: read };
      }
      const whole = this.waiting.slice(from, from + length);
      const packet = this.read(whole);
      if (typeof packet === 'string') return problem(packet);
      if (packet.cmd === 'connect') this.version = packet.protocolVersion === 5 ? 5 : 4;
      read.push({ packet, octets: whole });
      from += length;
    }
  }

  /** One whole packet; a text: why it is none. */
  private read(octets: Uint8Array): Packet | string {
    const found: Packet[] = [];
    let wrong: string | null = null;
    try {
      const reader = parser({ protocolVersion: this.version });
      reader.on('packet', (packet) => found.push(packet));
      reader.on('error', (error: unknown) => (wrong ??= messageOf(error)));
      reader.parse(octets as Parameters<typeof reader.parse>[0]);
    } catch (error) {
      wrong = messageOf(error);
    }
    if (wrong === null && found.length === 1) return found[0];
    return `a packet makes no sense: ${wrong ?? 'it does not end where it says'}`;
  }
}

const problem = (words: string): Result<never, string> => ({ ok: false, problem: words });
const messageOf = (error: unknown): string => (error instanceof Error ? error.message : String(error));

/** Octets of the packet that begins there; null: not known yet. */
function wholeLength(octets: Uint8Array, from: number): number | 'malformed' | null {
  let remaining = 0;
  for (let at = 0; at < 4; at++) {
    const octet = octets[from + 1 + at];
    if (octet === undefined) return null;
    remaining += (octet & 0x7f) * 128 ** at;
    if ((octet & 0x80) === 0) return 2 + at + remaining;
  }
  return 'malformed';
}
