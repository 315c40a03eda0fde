import { sameBytes } from '../../../bytes/index.ts';
import type { Instant } from '../../../session/index.ts';
import { encodeFrame, modbusFraming, type FramingName, type WireEvent } from '../wire/frame.ts';
import {
  decodeRequest,
  encodeException,
  encodeResponse,
  ExceptionCode,
  isWrite,
  packBits,
  type Request,
  type Response,
} from '../wire/pdu.ts';

/*
 * The answering side of Modbus, for any memory: whose requests they are, what an answer to each looks like, and which
 * exception it deserves. Answers to writes may come later.
 */

/** What there is to read and to write; a number is an exception code. */
export interface Memory {
  /** Bits packed, the first in the least significant place. */
  readBits(table: 'coils' | 'discreteInputs', address: number, count: number): Uint8Array | number;
  /** Two octets each. */
  readRegisters(table: 'inputRegisters' | 'holdingRegisters', address: number, count: number): Uint8Array | number;
  /** Whether registers can be read, without reading them: null, or the exception code. */
  refusesRegisters(table: 'inputRegisters' | 'holdingRegisters', address: number, count: number): number | null;
  /** Says later what came of it: nothing, or an exception code. */
  writeBits(address: number, bits: readonly boolean[], done: (exception: number | null) => void): void;
  writeRegisters(address: number, registers: Uint8Array, done: (exception: number | null) => void): void;
  /** Of one register the bits that `and` does not have become those of `or` (6.16). */
  maskRegister(address: number, and: number, or: number, done: (exception: number | null) => void): void;
  /** What it says of itself, by object id. */
  identification: Readonly<Record<number, string>>;
}

export interface ResponderOptions {
  framing: FramingName;
  /** What an octet takes on the line, milliseconds. */
  octetMs: number;
  /** The memory of a unit; null: there is no such unit here, it is not answered. */
  memoryOf: (unit: number) => Memory | null;
  send: (octets: Uint8Array) => void;
  /** The time; absent: that of what was received last. */
  clock?: () => Instant;
  count: (what: 'requests' | 'responses' | 'exceptions' | 'writes' | 'noise' | 'otherUnit') => void;
}

/** Broadcasts are carried out, and nobody answers them (Modbus over Serial Line V1.02, 2.1). */
export const BROADCAST = 0;
/** Over TCP there is no need of a unit: who has none to name says one of these (Messaging on TCP/IP V1.0b, 4.4.2). */
export const WHOEVER: readonly number[] = [0, 255];
/** Requests whose answer is still to come; more are refused as busy. */
const MOST_PENDING = 32;
/**
 * Some adapters of two-wire lines hand back what is sent (common practice). The answer to a single write is the request
 * again, octet by octet: taken for one it would be carried out without end. So long after it has gone out, beside its
 * time on the line, octets that are the last answer are an echo.
 */
const ECHO_MS = 100;

export class Responder {
  private readonly wire;
  private pending = 0;
  private receivedAt: Instant = 0;
  /** What was sent last, and until when it may come back; over TCP never. */
  private echo: { octets: Uint8Array; until: Instant } | null = null;

  constructor(private readonly options: ResponderOptions) {
    this.wire = modbusFraming(options.framing, 'requests', options.octetMs);
  }

  reset(): void {
    this.wire.reset();
  }

  receive(bytes: Uint8Array, now: Instant): void {
    this.receivedAt = now;
    for (const event of this.wire.push(bytes, now)) {
      if (event.type === 'frame' && this.isEcho(event.octets, now)) this.options.count('noise');
      else if (event.type === 'frame') this.onFrame(event);
      else this.options.count('noise');
    }
  }

  private isEcho(octets: Uint8Array, now: Instant): boolean {
    const { echo } = this;
    if (echo === null || now > echo.until || !sameBytes(echo.octets, octets)) return false;
    this.echo = null;
    return true;
  }

  private send(octets: Uint8Array): void {
    const { framing, octetMs, clock } = this.options;
    if (framing !== 'tcp') {
      const now = clock?.() ?? this.receivedAt;
      this.echo = { octets, until: now + octets.length * octetMs + ECHO_MS };
    }
    this.options.send(octets);
  }

  private onFrame({ transaction, unit, pdu }: WireEvent & { type: 'frame' }): void {
    const { memoryOf, framing, count } = this.options;
    const broadcast = unit === BROADCAST && framing !== 'tcp';
    const memory = memoryOf(unit);
    if (memory === null) {
      count('otherUnit');
      return;
    }
    // Of what everybody is asked nobody reads anything.
    if (broadcast && !isWrite(pdu[0])) return;
    count('requests');
    const answer = (octets: Uint8Array): void => {
      if (broadcast) return;
      count('responses');
      this.send(encodeFrame(framing, transaction ?? 0, unit, octets));
    };
    const refuse = (exception: number): void => {
      count('exceptions');
      answer(encodeException(pdu[0], exception));
    };
    const request = decodeRequest(pdu);
    if (typeof request === 'number') refuse(request);
    else if (this.pending >= MOST_PENDING) refuse(ExceptionCode.busy);
    else
      this.carryOut(request, memory, (outcome) => {
        if (typeof outcome === 'number') refuse(outcome);
        else answer(encodeResponse(outcome));
      });
  }

  private carryOut(request: Request, memory: Memory, done: (outcome: Response | number) => void): void {
    const { code } = request;
    switch (code) {
      case 0x01:
      case 0x02: {
        const data = memory.readBits(code === 0x01 ? 'coils' : 'discreteInputs', request.address, request.count);
        done(typeof data === 'number' ? data : { code, data });
        break;
      }
      case 0x03:
      case 0x04: {
        const table = code === 0x03 ? 'holdingRegisters' : 'inputRegisters';
        const data = memory.readRegisters(table, request.address, request.count);
        done(typeof data === 'number' ? data : { code, data });
        break;
      }
      case 0x05: {
        const { address, on } = request;
        const value = on ? 0xff00 : 0;
        memory.writeBits(address, [on], this.later({ code, address, value }, done));
        break;
      }
      case 0x06: {
        const { address, registers } = request;
        memory.writeRegisters(address, registers, this.later({ code, address, registers }, done));
        break;
      }
      case 0x08:
        // An echo, or communications that begin anew, which they do with each request here.
        if (request.sub === 0 || request.sub === 1) done({ code, sub: request.sub, data: request.data });
        else done(ExceptionCode.illegalFunction);
        break;
      case 0x0f: {
        const { address, bits } = request;
        memory.writeBits(address, bits, this.later({ code, address, count: bits.length }, done));
        break;
      }
      case 0x10: {
        const { address, registers } = request;
        memory.writeRegisters(address, registers, this.later({ code, address, count: registers.length / 2 }, done));
        break;
      }
      case 0x16: {
        const { address, and, or } = request;
        memory.maskRegister(address, and, or, this.later({ code, address, and, or }, done));
        break;
      }
      case 0x17: {
        // The write comes first (6.17), and not at all where the answer could not be given.
        const { address, count, writeAddress, registers } = request;
        const refused = memory.refusesRegisters('holdingRegisters', address, count);
        if (refused !== null) {
          done(refused);
          break;
        }
        this.pending++;
        memory.writeRegisters(writeAddress, registers, (exception) => {
          this.pending--;
          const data = exception ?? memory.readRegisters('holdingRegisters', address, count);
          if (typeof data === 'number') done(data);
          else done({ code, data: overlaid(data, address, registers, writeAddress) });
        });
        break;
      }
      case 0x2b:
        done(identificationOf(request, memory.identification));
        break;
      default:
        code satisfies never;
    }
  }

  private later(response: Response, done: (outcome: Response | number) => void): (exception: number | null) => void {
    this.pending++;
    let said = false;
    return (exception) => {
      if (said) return;
      said = true;
      this.pending--;
      done(exception ?? response);
    };
  }
}

/** Registers as they were read, where some of them have just been written: those as they were written. */
function overlaid(read: Uint8Array, address: number, written: Uint8Array, writeAddress: number): Uint8Array {
  const data = read.slice();
  const shift = (writeAddress - address) * 2;
  for (let at = 0; at < written.length; at++)
    if (at + shift >= 0 && at + shift < data.length) data[at + shift] = written[at];
  return data;
}

/** Octets of an answer that objects may take. */
const ROOM = 246;

/** Read device identification (6.21): basic, regular or extended as a stream, or one object. */
function identificationOf(
  { access, object }: Request & { code: 0x2b },
  said: Readonly<Record<number, string>>,
): Response | number {
  const ids = Object.keys(said).map(Number);
  // A stream access answers with what is there; both accesses are supported.
  const conformity = 0x80 | (ids.some((id) => id > 6) ? 3 : ids.some((id) => id > 2) ? 2 : 1);
  if (access === 4) {
    if (said[object] === undefined) return ExceptionCode.illegalAddress;
    return {
      code: 0x2b,
      access,
      conformity,
      next: null,
      objects: [{ id: object, text: said[object].slice(0, ROOM - 2) }],
    };
  }
  const last = access === 1 ? 2 : access === 2 ? 0x7f : 0xff;
  // An object that is not there begins the list anew.
  const from = said[object] === undefined ? 0 : object;
  const objects: { id: number; text: string }[] = [];
  let room = ROOM;
  for (const id of ids.filter((one) => one >= from && one <= last)) {
    const text = said[id].slice(0, ROOM - 2);
    if (text.length + 2 > room) return { code: 0x2b, access, conformity, next: id, objects };
    room -= text.length + 2;
    objects.push({ id, text });
  }
  return { code: 0x2b, access, conformity, next: null, objects };
}

/** A memory of plain numbers: for stand-ins and tests. What it does not have is refused. */
export class PlainMemory implements Memory {
  readonly bits = { coils: new Map<number, boolean>(), discreteInputs: new Map<number, boolean>() };
  readonly registers = { inputRegisters: new Map<number, number>(), holdingRegisters: new Map<number, number>() };
  identification: Record<number, string> = {};

  readBits(table: 'coils' | 'discreteInputs', address: number, count: number): Uint8Array | number {
    const bits: boolean[] = [];
    for (let at = address; at < address + count; at++) {
      const bit = this.bits[table].get(at);
      if (bit === undefined) return ExceptionCode.illegalAddress;
      bits.push(bit);
    }
    return packBits(bits);
  }

  readRegisters(table: 'inputRegisters' | 'holdingRegisters', address: number, count: number): Uint8Array | number {
    const octets = new Uint8Array(count * 2);
    for (let n = 0; n < count; n++) {
      const value = this.registers[table].get(address + n);
      if (value === undefined) return ExceptionCode.illegalAddress;
      octets[2 * n] = value >> 8;
      octets[2 * n + 1] = value & 0xff;
    }
    return octets;
  }

  refusesRegisters(table: 'inputRegisters' | 'holdingRegisters', address: number, count: number): number | null {
    const data = this.readRegisters(table, address, count);
    return typeof data === 'number' ? data : null;
  }

  maskRegister(address: number, and: number, or: number, done: (exception: number | null) => void): void {
    const before = this.registers.holdingRegisters.get(address);
    if (before === undefined) return done(ExceptionCode.illegalAddress);
    // (what it is AND the mask) OR (the other mask AND NOT the first): 6.16.
    this.registers.holdingRegisters.set(address, ((before & and) | (or & ~and)) & 0xffff);
    done(null);
  }

  writeBits(address: number, bits: readonly boolean[], done: (exception: number | null) => void): void {
    if (bits.some((_, n) => !this.bits.coils.has(address + n))) return done(ExceptionCode.illegalAddress);
    bits.forEach((on, n) => this.bits.coils.set(address + n, on));
    done(null);
  }

  writeRegisters(address: number, registers: Uint8Array, done: (exception: number | null) => void): void {
    const count = registers.length / 2;
    const own = this.registers.holdingRegisters;
    for (let n = 0; n < count; n++) if (!own.has(address + n)) return done(ExceptionCode.illegalAddress);
    for (let n = 0; n < count; n++) own.set(address + n, (registers[2 * n] << 8) | registers[2 * n + 1]);
    done(null);
  }

  /** Sets registers from their octets. */
  put(table: 'inputRegisters' | 'holdingRegisters', address: number, octets: Uint8Array): void {
    for (let n = 0; n < octets.length / 2; n++)
      this.registers[table].set(address + n, (octets[2 * n] << 8) | octets[2 * n + 1]);
  }
}
