import type { Instant } from '../../../../session/index.ts';

/*
 * A server that is not ours, for trials in virtual time: it makes its answers octet by octet, and behaves oddly where it is
 * told to. Nothing of ours is used for it.
 */

/** How it differs from a plain server. */
export interface Quirks {
  /** What it says of requests that touch a holding register: an exception, or nothing at all. */
  says?: Readonly<Record<number, number | 'silence'>>;
  /** Most registers of a request, and what it says of longer ones. */
  most?: { registers: number; says: number | 'silence' };
  /** It does not know registers that nobody asked for. */
  gaps?: number | 'silence';
  /** What becomes of its answers, by their number from 1. */
  answer?: (number: number) => 'good' | 'spoilt' | 'lost' | 'cut' | number;
  /** It closes the connection behind each answer, and takes the next one so much later. */
  closes?: { afterMs: number };
  delayMs?: number;
  /** Octets put before and behind its answers. */
  before?: readonly number[];
  behind?: readonly number[];
  /** Each octet by itself. */
  dribbles?: boolean;
  /** Answers with another transaction, or of another unit, before its own. */
  strangers?: boolean;
  /** Each answer comes twice. */
  twice?: boolean;
}

export type Framing = 'tcp' | 'rtu';
export const UNIT = 7;

/** CRC of a serial line, bit by bit (Modbus over Serial Line V1.02, 6.2.2). */
function crcOf(octets: readonly number[]): number {
  let crc = 0xffff;
  for (const octet of octets) {
    crc ^= octet;
    for (let bit = 0; bit < 8; bit++) crc = crc & 1 ? (crc >>> 1) ^ 0xa001 : crc >>> 1;
  }
  return crc;
}

export class ModelServer {
  requests = 0;
  closing = false;
  private answers = 0;
  private readonly output: { at: Instant; octets: Uint8Array }[] = [];

  constructor(
    /** Holding registers that it has. */
    readonly registers: Map<number, number>,
    public quirks: Quirks,
    private readonly framing: Framing,
  ) {}

  get deadline(): Instant {
    return Math.min(Infinity, ...this.output.map(({ at }) => at));
  }
  take(now: Instant): Uint8Array[] {
    const due = this.output.filter(({ at }) => at <= now);
    for (const one of due) this.output.splice(this.output.indexOf(one), 1);
    return due.map(({ octets }) => octets);
  }
  forget(): void {
    this.output.length = 0;
    this.closing = false;
  }

  /** A whole request: our client sends each in one piece. */
  receive(octets: Uint8Array, now: Instant): void {
    for (let at = 0; at < octets.length;) {
      const length = this.framing === 'tcp' ? 6 + ((octets[at + 4] << 8) | octets[at + 5]) : octets.length;
      this.onRequest([...octets.subarray(at, at + length)], now);
      at += length;
    }
  }

  private onRequest(frame: number[], now: Instant): void {
    const head = this.framing === 'tcp' ? frame.slice(0, 2) : [];
    const [unit, code, high, low, most, least] = frame.slice(this.framing === 'tcp' ? 6 : 0);
    if (unit !== UNIT) return;
    this.requests++;
    const [address, count] = [(high << 8) | low, (most << 8) | least];
    const answer = code === 3 ? this.read(address, count) : 1;
    if (answer === 'silence') return;
    const pdu = typeof answer === 'number' ? [code | 0x80, answer] : [code, answer.length, ...answer];
    this.answer(head, pdu, now);
  }

  private read(address: number, count: number): number[] | number | 'silence' {
    const { says = {}, most, gaps = 2 } = this.quirks;
    if (most !== undefined && count > most.registers) return most.says;
    const octets: number[] = [];
    for (let at = address; at < address + count; at++) {
      const said = says[at];
      if (said !== undefined) return said;
      const value = this.registers.get(at);
      if (value === undefined) return gaps;
      octets.push(value >> 8, value & 0xff);
    }
    return octets;
  }

  private answer(head: readonly number[], pdu: readonly number[], now: Instant): void {
    const { answer, delayMs = 5, before = [], behind = [], dribbles, strangers, twice, closes } = this.quirks;
    const fate = answer?.(++this.answers) ?? 'good';
    if (fate === 'lost') return;
    const own = typeof fate === 'number' ? [pdu[0] | 0x80, fate] : [...pdu];
    const framed = (unit: number, transaction: readonly number[], of: readonly number[]): number[] => {
      if (this.framing === 'tcp') return [...transaction, 0, 0, 0, of.length + 1, unit, ...of];
      const crc = crcOf([unit, ...of]);
      return [unit, ...of, crc & 0xff, crc >> 8];
    };
    let frame = framed(UNIT, head, own);
    if (fate === 'spoilt') frame[frame.length - 1] ^= 0x55;
    // Over TCP a wrong sum is not seen: what is spoilt there comes with another transaction.
    if (fate === 'spoilt' && this.framing === 'tcp') frame[0] ^= 0x80;
    if (fate === 'cut') frame = frame.slice(0, -2);
    const all = [
      ...before,
      ...(strangers
        ? [...framed(UNIT + 1, head, own), ...(head.length > 0 ? framed(UNIT, [0xff, 0xfe], own) : [])]
        : []),
      ...frame,
      ...(twice ? frame : []),
      ...behind,
    ];
    const at = now + delayMs;
    if (dribbles) all.forEach((octet, n) => this.output.push({ at: at + n, octets: Uint8Array.of(octet) }));
    else this.output.push({ at, octets: Uint8Array.from(all) });
    if (closes !== undefined) this.closing = true;
  }
}
