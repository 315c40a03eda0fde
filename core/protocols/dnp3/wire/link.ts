import { checksumHolds, crc16Dnp } from './crc.ts';

/** Link function codes, primary to secondary (IEEE 1815, table 9-1). */
export const PrimaryFunction = {
  resetLinkStates: 0,
  testLinkStates: 2,
  confirmedUserData: 3,
  unconfirmedUserData: 4,
  requestLinkStatus: 9,
} as const;

/** Link function codes, secondary to primary (IEEE 1815, table 9-2). */
export const SecondaryFunction = { ack: 0, nack: 1, linkStatus: 11, notSupported: 15 } as const;

export interface LinkFrame {
  /** Sent by the master. */
  fromMaster: boolean;
  /** Sent by the primary side of this exchange: a request, not an answer to one. */
  primary: boolean;
  /** Frame count bit; only meaningful with `countValid` in a primary frame. */
  countBit: boolean;
  /** FCV in a primary frame, DFC (receive buffers full) in a secondary one. */
  countValid: boolean;
  functionCode: number;
  destination: number;
  source: number;
  /** User data without checksums, 0…250 octets. */
  data: Uint8Array;
}

export const HEADER_OCTETS = 10;
export const MAX_USER_DATA = 250;
const BLOCK = 16;
/** The longest frame: header and 250 octets in 16 blocks. */
export const MAX_FRAME = HEADER_OCTETS + MAX_USER_DATA + 2 * Math.ceil(MAX_USER_DATA / BLOCK);

const bodyOctets = (dataOctets: number): number => dataOctets + 2 * Math.ceil(dataOctets / BLOCK);

/**
 * IEEE 1815, clause 9.2.
 *
 *   start        2   05 64
 *   length       1   5 + user data octets
 *   control      1   DIR, PRM, FCB, FCV or DFC, function code (4 bits)
 *   destination  2
 *   source       2
 *   checksum     2   over the eight octets before it
 *   user data    16  … repeated: up to 16 octets,
 *   checksum     2   … and their checksum
 */
export function encodeLinkFrame(frame: LinkFrame): Uint8Array {
  const { data } = frame;
  if (data.length > MAX_USER_DATA) throw new RangeError(`${data.length} octets of user data, at most ${MAX_USER_DATA}`);
  const out = new Uint8Array(HEADER_OCTETS + bodyOctets(data.length));
  const control =
    (frame.fromMaster ? 0x80 : 0) |
    (frame.primary ? 0x40 : 0) |
    (frame.countBit ? 0x20 : 0) |
    (frame.countValid ? 0x10 : 0) |
    (frame.functionCode & 0x0f);
  out[0] = 0x05;
  out[1] = 0x64;
  out[2] = 5 + data.length;
  out[3] = control;
  out[4] = frame.destination & 0xff;
  out[5] = frame.destination >>> 8;
  out[6] = frame.source & 0xff;
  out[7] = frame.source >>> 8;
  close(out, 0, HEADER_OCTETS - 2);
  for (let from = 0, at = HEADER_OCTETS; from < data.length; from += BLOCK, at += BLOCK + 2) {
    const size = Math.min(BLOCK, data.length - from);
    for (let i = 0; i < size; i++) out[at + i] = data[from + i];
    close(out, at, at + size);
  }
  return out;
}

/** Writes the checksum of these octets behind them. */
function close(out: Uint8Array, start: number, end: number): void {
  const checksum = crc16Dnp(out, start, end);
  out[end] = checksum & 0xff;
  out[end + 1] = checksum >>> 8;
}

export type LinkEvent =
  | { type: 'frame'; frame: LinkFrame; octets: Uint8Array }
  /** Octets that belong to no frame. */
  | { type: 'noise'; octets: number }
  | { type: 'headerChecksum' }
  | { type: 'bodyChecksum' };

/**
 * Finds frames in a stream of octets. A broken frame costs only itself: the search for the next start goes on right
 * after the start octets of the broken one, so a good frame hidden behind noise is found. What it returns depends on
 * the octets alone, not on how they were cut. Holds at most one frame's octets between calls.
 */
export class LinkParser {
  private held: Uint8Array = new Uint8Array(0);

  reset(): void {
    this.held = new Uint8Array(0);
  }

  push(bytes: Uint8Array): LinkEvent[] {
    const stream = this.held.length === 0 ? bytes : joined(this.held, bytes);
    const events: LinkEvent[] = [];
    let noise = 0;
    let at = 0;
    while (at < stream.length) {
      if (stream[at] !== 0x05 || (at + 1 < stream.length && stream[at + 1] !== 0x64)) {
        noise++;
        at++;
        continue;
      }
      if (stream.length - at < HEADER_OCTETS) break;
      const length = stream[at + 2];
      if (length < 5 || !checksumHolds(stream, at, at + 8)) {
        if (noise > 0) events.push({ type: 'noise', octets: noise });
        events.push({ type: 'headerChecksum' });
        noise = 2;
        at += 2;
        continue;
      }
      const dataOctets = length - 5;
      const end = at + HEADER_OCTETS + bodyOctets(dataOctets);
      if (end > stream.length) break;
      const data = userData(stream, at + HEADER_OCTETS, dataOctets);
      if (noise > 0) events.push({ type: 'noise', octets: noise });
      noise = 0;
      if (data === null) {
        events.push({ type: 'bodyChecksum' });
        noise = 2;
        at += 2;
        continue;
      }
      events.push({ type: 'frame', frame: headerOf(stream, at, data), octets: stream.slice(at, end) });
      at = end;
    }
    if (noise > 0) events.push({ type: 'noise', octets: noise });
    // Nearly always nothing is left; a view would hold all that came.
    this.held = at === stream.length ? NOTHING : stream.slice(at);
    return events;
  }
}

const NOTHING = new Uint8Array(0);

function joined(a: Uint8Array, b: Uint8Array): Uint8Array {
  const whole = new Uint8Array(a.length + b.length);
  whole.set(a);
  whole.set(b, a.length);
  return whole;
}

function headerOf(stream: Uint8Array, at: number, data: Uint8Array): LinkFrame {
  const control = stream[at + 3];
  return {
    fromMaster: (control & 0x80) !== 0,
    primary: (control & 0x40) !== 0,
    countBit: (control & 0x20) !== 0,
    countValid: (control & 0x10) !== 0,
    functionCode: control & 0x0f,
    destination: stream[at + 4] | (stream[at + 5] << 8),
    source: stream[at + 6] | (stream[at + 7] << 8),
    data,
  };
}

/** The user data of a frame without its checksums; null when one of them is wrong. */
function userData(stream: Uint8Array, start: number, octets: number): Uint8Array | null {
  const data = new Uint8Array(octets);
  let at = start;
  for (let done = 0; done < octets; done += BLOCK) {
    const size = Math.min(BLOCK, octets - done);
    if (!checksumHolds(stream, at, at + size)) return null;
    for (let i = 0; i < size; i++) data[done + i] = stream[at + i];
    at += size + 2;
  }
  return data;
}

/** The user data of a whole frame, as received. */
export const userDataIn = (frame: Uint8Array): Uint8Array =>
  userData(frame, HEADER_OCTETS, frame[2] - 5) ?? new Uint8Array(0);

/** Where octet `index` of a frame's user data stands in the frame as sent. */
export const positionInFrame = (index: number): number => HEADER_OCTETS + index + 2 * Math.floor(index / BLOCK);
