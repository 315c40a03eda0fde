import type { Framing } from '../../../line/index.ts';
import type { Instant } from '../../../session/index.ts';
import { crc16, lrc } from './crc.ts';
import { EXCEPTION, MAX_PDU } from './pdu.ts';

/** How units of data are told apart on a link. */
export const FRAMINGS = ['tcp', 'rtu', 'ascii'] as const;
export type FramingName = (typeof FRAMINGS)[number];
/** The framing that a link says; TCP's own where it says none. */
export const framingNamed = (name: string): FramingName => FRAMINGS.find((one) => one === name) ?? 'tcp';

/** One unit of data as it came, or octets that are none. */
export type WireEvent =
  | {
      type: 'frame';
      /** Of TCP; null: the framing has none. */
      transaction: number | null;
      unit: number;
      pdu: Uint8Array;
      /** The whole frame as it stood on the line, and where in it the unit of data begins. */
      octets: Uint8Array;
      at: number;
      /** Octets of each octet of the unit of data on the line: two of ASCII. */
      width: 1 | 2;
    }
  | { type: 'noise'; octets: Uint8Array }
  | { type: 'checksum'; octets: Uint8Array }
  | { type: 'short'; octets: Uint8Array };

const EMPTY: Uint8Array = new Uint8Array(0);
const joined = (a: Uint8Array, b: Uint8Array): Uint8Array => {
  if (a.length === 0) return b.slice();
  const both = new Uint8Array(a.length + b.length);
  both.set(a);
  both.set(b, a.length);
  return both;
};

export function encodeFrame(framing: FramingName, transaction: number, unit: number, pdu: Uint8Array): Uint8Array {
  switch (framing) {
    case 'tcp':
      return encodeTcp(transaction, unit, pdu);
    case 'rtu':
      return encodeRtu(unit, pdu);
    case 'ascii':
      return encodeAscii(unit, pdu);
    default:
      return framing satisfies never;
  }
}

/** What is on the line beside the unit of data: octets of one frame. */
export const FRAME_OVERHEAD: Record<FramingName, number> = { tcp: 7, rtu: 3, ascii: 7 };
/** Octets on the line for one octet of data. */
export const OCTET_WIDTH: Record<FramingName, 1 | 2> = { tcp: 1, rtu: 1, ascii: 2 };

/**
 * `of`: whose frames come, which decides how long they are. `octetMs`: what an octet takes on the line; 0: there is
 * none.
 */
export function modbusFraming(framing: FramingName, of: 'requests' | 'responses', octetMs: number): Framing<WireEvent> {
  switch (framing) {
    case 'tcp':
      return new TcpFraming();
    case 'rtu':
      return new RtuFraming(of === 'requests' ? requestLength : responseLength, octetMs);
    case 'ascii':
      return new AsciiFraming();
    default:
      return framing satisfies never;
  }
}

// ---- TCP (Modbus Messaging on TCP/IP V1.0b, 3.1.3)

const HEADER = 7;

/**
 *   transaction  2
 *   protocol     2   0
 *   length       2   of what follows
 *   unit         1
 *   pdu
 */
function encodeTcp(transaction: number, unit: number, pdu: Uint8Array): Uint8Array {
  const octets = new Uint8Array(HEADER + pdu.length);
  const view = new DataView(octets.buffer);
  view.setUint16(0, transaction);
  view.setUint16(4, pdu.length + 1);
  octets[6] = unit;
  octets.set(pdu, HEADER);
  return octets;
}

/**
 * The length in the header says where the next frame begins. What cannot be a header (another protocol, a length that no
 * frame has) is left out octet by octet until one is found again.
 */
class TcpFraming implements Framing<WireEvent> {
  readonly gapMs = 0;
  private buffer = EMPTY;

  reset(): void {
    this.buffer = EMPTY;
  }

  push(octets: Uint8Array): WireEvent[] {
    const events: WireEvent[] = [];
    let all = joined(this.buffer, octets);
    let noise = 0;
    const dropNoise = (at: number): void => {
      if (noise > 0) events.push({ type: 'noise', octets: all.slice(at - noise, at) });
      noise = 0;
    };
    let at = 0;
    while (all.length - at >= HEADER + 1) {
      const length = (all[at + 4] << 8) | all[at + 5];
      if (all[at + 2] !== 0 || all[at + 3] !== 0 || length < 2 || length > MAX_PDU + 1) {
        noise++;
        at++;
        continue;
      }
      if (all.length - at < 6 + length) break;
      dropNoise(at);
      const frame = all.slice(at, at + 6 + length);
      const transaction = (frame[0] << 8) | frame[1];
      events.push({
        ...{ type: 'frame', transaction, unit: frame[6], pdu: frame.subarray(HEADER), octets: frame },
        ...{ at: HEADER, width: 1 },
      });
      at += 6 + length;
    }
    dropNoise(at);
    all = all.slice(at);
    this.buffer = all;
    return events;
  }

  isFrame({ type }: WireEvent): boolean {
    return type === 'frame';
  }
}

// ---- RTU (Modbus over Serial Line V1.02, 2.5.1)

/**
 *   unit  1
 *   pdu
 *   CRC   2   low octet first
 */
function encodeRtu(unit: number, pdu: Uint8Array): Uint8Array {
  const octets = new Uint8Array(pdu.length + 3);
  octets[0] = unit;
  octets.set(pdu, 1);
  const crc = crc16(octets, 0, pdu.length + 1);
  octets[pdu.length + 1] = crc & 0xff;
  octets[pdu.length + 2] = crc >> 8;
  return octets;
}

/** Octets of a frame that begins so: 0: more of it has to come first; null: its function does not say. */
type LengthOf = (octets: Uint8Array) => number | null;

const SHORTEST_RTU = 4;
const LONGEST_RTU = 256;

const responseLength: LengthOf = (octets) => {
  if (octets.length < 3) return 0;
  const code = octets[1];
  if (code & EXCEPTION) return 5;
  switch (code) {
    case 0x01:
    case 0x02:
    case 0x03:
    case 0x04:
    case 0x17:
      return octets[2] + 5;
    case 0x05:
    case 0x06:
    case 0x0f:
    case 0x10:
      return 8;
    case 0x16:
      return 10;
    default:
      return null;
  }
};

const requestLength: LengthOf = (octets) => {
  if (octets.length < 2) return 0;
  switch (octets[1]) {
    case 0x01:
    case 0x02:
    case 0x03:
    case 0x04:
    case 0x05:
    case 0x06:
      return 8;
    case 0x0f:
    case 0x10:
      return octets.length < 7 ? 0 : octets[6] + 9;
    case 0x16:
      return 10;
    case 0x17:
      return octets.length < 11 ? 0 : octets[10] + 13;
    case 0x2b:
      return 7;
    default:
      return null;
  }
};

/**
 * Frames by their length, where the function says it, and by the end of what came at once where it does not. Octets
 * that make no frame are left out one by one until the checksum is right again; what was begun and not gone on with
 * after a rest on the line is a short frame.
 */
class RtuFraming implements Framing<WireEvent> {
  /** Frames are 3.5 characters apart, and from 19200 bit/s on 1.75 ms (2.5.1.1). */
  readonly gapMs: number;
  private readonly restMs: number;
  private buffer = EMPTY;
  private lastAt: Instant = 0;

  constructor(
    private readonly lengthOf: LengthOf,
    octetMs: number,
  ) {
    this.gapMs = octetMs === 0 ? 0 : Math.max(1.75, 3.5 * octetMs);
    this.restMs = Math.max(100, 20 * octetMs);
  }

  reset(): void {
    this.buffer = EMPTY;
  }

  push(octets: Uint8Array, now: Instant): WireEvent[] {
    const events: WireEvent[] = [];
    if (this.buffer.length > 0 && now - this.lastAt > this.restMs) {
      events.push({ type: 'short', octets: this.buffer });
      this.buffer = EMPTY;
    }
    this.lastAt = now;
    let all = joined(this.buffer, octets);
    let bad = 0;
    let isBroken = false;
    const dropBad = (): void => {
      if (bad > 0) events.push({ type: isBroken ? 'checksum' : 'noise', octets: all.slice(0, bad) });
      all = all.slice(bad);
      bad = 0;
      isBroken = false;
    };
    for (;;) {
      const rest = all.subarray(bad);
      if (rest.length < SHORTEST_RTU) break;
      const length = this.lengthOf(rest) ?? this.endOfUnknown(rest);
      if (length === 0 || (length <= LONGEST_RTU && rest.length < length)) break;
      if (length > LONGEST_RTU || !isGoodRtu(rest, length)) {
        isBroken ||= bad === 0 && length <= LONGEST_RTU;
        bad++;
        continue;
      }
      dropBad();
      const frame = all.slice(0, length);
      all = all.slice(length);
      events.push({
        ...{ type: 'frame', transaction: null, unit: frame[0], pdu: frame.subarray(1, length - 2), octets: frame },
        ...{ at: 1, width: 1 },
      });
    }
    // What a broken count promises would be waited for in vain: a whole frame may stand behind it.
    if (all.length - bad >= SHORTEST_RTU) {
      const found = this.goodWithin(all.subarray(bad));
      if (found > 0) {
        bad += found;
        dropBad();
        const frames = this.pushAgain(all, now);
        return [...events, ...frames];
      }
    }
    dropBad();
    this.buffer = all.length > LONGEST_RTU ? all.slice(all.length - LONGEST_RTU) : all;
    return events;
  }

  private pushAgain(octets: Uint8Array, now: Instant): WireEvent[] {
    this.buffer = EMPTY;
    return this.push(octets, now);
  }

  /** Where a whole frame begins behind one that has not come whole; 0: nowhere. */
  private goodWithin(all: Uint8Array): number {
    for (let at = 1; at + SHORTEST_RTU <= all.length; at++) {
      const rest = all.subarray(at);
      const length = this.lengthOf(rest);
      if (length !== null && length >= SHORTEST_RTU && length <= rest.length && isGoodRtu(rest, length)) return at;
    }
    return 0;
  }

  /** A function whose length nobody knows ends where what came so far has a right checksum. */
  private endOfUnknown(rest: Uint8Array): number {
    if (isGoodRtu(rest, rest.length)) return rest.length;
    return rest.length >= LONGEST_RTU ? LONGEST_RTU : 0;
  }

  isFrame({ type }: WireEvent): boolean {
    return type === 'frame';
  }
}

const isGoodRtu = (octets: Uint8Array, length: number): boolean =>
  length >= SHORTEST_RTU && crc16(octets, 0, length - 2) === (octets[length - 2] | (octets[length - 1] << 8));

// ---- ASCII (Modbus over Serial Line V1.02, 2.5.2)

const [COLON, CR, LF] = [0x3a, 0x0d, 0x0a];
const DIGITS = '0123456789ABCDEF';
/** Colon, unit, data, checksum, carriage return, line feed. */
const LONGEST_ASCII = 513;

/** A colon, all octets as two hexadecimal digits with their checksum, carriage return and line feed. */
function encodeAscii(unit: number, pdu: Uint8Array): Uint8Array {
  const body = Uint8Array.of(unit, ...pdu);
  const text = [...body, lrc(body)].map((octet) => DIGITS[octet >> 4] + DIGITS[octet & 15]).join('');
  return Uint8Array.from(`:${text}\r\n`, (character) => character.charCodeAt(0));
}

class AsciiFraming implements Framing<WireEvent> {
  readonly gapMs = 0;
  private buffer = EMPTY;

  reset(): void {
    this.buffer = EMPTY;
  }

  push(octets: Uint8Array): WireEvent[] {
    const events: WireEvent[] = [];
    let all = joined(this.buffer, octets);
    for (;;) {
      const start = all.indexOf(COLON);
      if (start !== 0) {
        const noise = start < 0 ? all : all.subarray(0, start);
        if (noise.length > 0) events.push({ type: 'noise', octets: noise.slice() });
        all = start < 0 ? EMPTY : all.slice(start);
        if (start < 0) break;
      }
      const end = all.indexOf(LF);
      // A colon begins a frame anew, whatever came before it.
      const again = all.indexOf(COLON, 1);
      if (again > 0 && (end < 0 || again < end)) {
        events.push({ type: 'short', octets: all.slice(0, again) });
        all = all.slice(again);
        continue;
      }
      if (end < 0) {
        if (all.length <= LONGEST_ASCII) break;
        events.push({ type: 'noise', octets: all });
        all = EMPTY;
        break;
      }
      events.push(asciiFrame(all.slice(0, end + 1)));
      all = all.slice(end + 1);
    }
    this.buffer = all;
    return events;
  }

  isFrame({ type }: WireEvent): boolean {
    return type === 'frame';
  }
}

function asciiFrame(octets: Uint8Array): WireEvent {
  const text = String.fromCharCode(...octets.subarray(1, octets.length - (octets.at(-2) === CR ? 2 : 1)));
  if (!/^([0-9A-F]{2}){3,255}$/i.test(text)) return { type: 'short', octets };
  const all = Uint8Array.from(text.match(/../g) ?? [], (pair) => Number.parseInt(pair, 16));
  const body = all.subarray(0, -1);
  if (lrc(body) !== all[all.length - 1]) return { type: 'checksum', octets };
  return { type: 'frame', transaction: null, unit: body[0], pdu: body.subarray(1), octets, at: 3, width: 2 };
}
