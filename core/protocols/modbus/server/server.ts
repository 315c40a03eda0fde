import { INVALID, numberOnWire, Quality, type PointKind } from '../../../point/index.ts';
import type { Instant } from '../../../session/index.ts';
import type { CentreOrder, ControlOutcome } from '../../control.ts';
import type { Server, ServerCommand, ServerEffect, ServerPoint, ServerUpdate } from '../../server.ts';
import { CounterSet } from '../counters.ts';
import { isBitTable, placeWords, TABLE_WORDS, widthOf, type ModbusTargetAt, type Table } from '../points.ts';
import type { ServerSettings } from '../settings.ts';
import { holdValue, isFloat, readValue, writeValue } from '../values.ts';
import type { FramingName } from '../wire/frame.ts';
import { EXCEPTION_OF, ExceptionCode, packBits } from '../wire/pdu.ts';
import { BROADCAST, Responder, WHOEVER, type Memory } from './responder.ts';

/*
 * Our side towards the clients of third parties: mapped points as tables of bits and registers.
 *
 * Rules:
 * 1. Each client has a conversation of its own over the same tables. What a client is sent belongs to what it asked.
 * 2. What is read is what the exchange has now. A table has no quality: a value that is not to be used reads as the
 *    settings say. Where there is none at all, since its device has never said one, or what it says is no number, a
 *    request that touches it is refused: a 0 would pass for a value. A float says that it is no number; an output that
 *    says nothing of itself is a gap.
 * 3. A write becomes controls, one for each point that it touches, in their order; it is answered when all of them are:
 *    with the device's own exception, or with the one that says why it did not get there. A point is written whole or
 *    not at all.
 * 4. Of a register that is made of bits a mask write operates those that it names, whatever they are now. A register
 *    that is a number is not written by a mask: what its other bits are at the device nobody here knows for certain.
 * 5. A write to all units of a line is carried out and not answered. Over TCP the units 0 and 255 mean whoever is there,
 *    where that is one.
 */

type Spot = { kind: PointKind; at: ModbusTargetAt };

interface Held extends Spot {
  address: string;
  /** It has been told of. */
  isKnown: boolean;
  value: number;
  text: string;
  quality: number;
  /** Changed since somebody read it. */
  isFresh: boolean;
}

/** The exception that says what came of a control (7). */
const EXCEPTIONS: Record<ControlOutcome['result'], number> = {
  done: 0,
  refused: ExceptionCode.deviceFailure,
  notSupported: ExceptionCode.illegalAddress,
  outOfRange: ExceptionCode.illegalValue,
  notAuthorized: ExceptionCode.illegalFunction,
  blocked: ExceptionCode.deviceFailure,
  failed: ExceptionCode.deviceFailure,
};
function exceptionOf({ result, status, protocol, refusal }: ControlOutcome): number {
  if (result !== 'refused') return EXCEPTIONS[result];
  if (protocol === 'modbus' && status !== null) return status;
  return refusal === undefined ? EXCEPTIONS.refused : EXCEPTION_OF[refusal];
}

export class ModbusServer implements Server<ModbusTargetAt> {
  readonly counters: CounterSet;
  readonly eventsWaiting = 0;
  readonly deadline = null;
  private effects: ServerEffect[] = [];
  private points = new Map<string, Held>();
  /** What lies at each address of each table: several, where bits of a register are points. */
  private tables = new Map<Table, Map<number, Held[]>>();
  private readonly peers = new Map<number, Responder>();
  private readonly waiting = new Map<number, (outcomes: readonly ControlOutcome[]) => void>();
  private token = 0;
  private peerNow = 0;
  /** Whoever is asked there can be nobody else. */
  private isAlone = false;
  private now: Instant;

  constructor(
    private readonly settings: ServerSettings,
    private readonly framing: FramingName,
    /** What an octet takes on the line, milliseconds. */
    private readonly octetMs: number,
    points: readonly ServerPoint<ModbusTargetAt>[],
    now: Instant,
  ) {
    this.counters = new CounterSet(now);
    this.now = now;
    this.setPoints(points);
  }

  private setPoints(points: readonly ServerPoint<ModbusTargetAt>[]): void {
    const before = this.points;
    this.points = new Map();
    this.tables = new Map();
    for (const { kind, at } of points) {
      const address = placeWords(at);
      const known = before.get(address);
      const fresh = { address, kind, at, isKnown: false, value: 0, text: '', quality: INVALID, isFresh: true };
      const held: Held = known ? { ...known, kind, at } : fresh;
      this.points.set(address, held);
      const table = this.tables.get(at.table) ?? new Map<number, Held[]>();
      this.tables.set(at.table, table);
      for (let n = 0; n < widthOf(at); n++) {
        const there = table.get(at.address + n);
        if (there) there.push(held);
        else table.set(at.address + n, [held]);
      }
    }
  }

  form({ at }: Spot): string {
    return isBitTable(at.table) ? TABLE_WORDS[at.table].one : `${at.type} ${at.order}`;
  }

  /** A register says nothing of its quality. */
  said(): string {
    return '';
  }

  held({ at }: Spot): { value: number; text: string } {
    return this.heldAt(at) ?? { value: 0, text: '' };
  }

  private heldAt(at: ModbusTargetAt): Held | undefined {
    return this.points.get(placeWords(at));
  }

  start(): void {
    // Each peer begins for itself.
  }
  stop(): void {
    this.peers.clear();
  }
  wake(): void {
    // Nothing happens by itself.
  }
  receive(): void {
    // What comes is said to be somebody's.
  }

  take(): ServerEffect[] {
    const { effects } = this;
    this.effects = [];
    return effects;
  }

  command(command: ServerCommand<ModbusTargetAt>, now: Instant): void {
    this.now = now;
    switch (command.type) {
      case 'update':
        for (const update of command.updates) this.update(update);
        break;
      case 'setPoints':
        this.setPoints(command.points);
        break;
      case 'came':
        this.peers.set(command.peer, this.responderFor(command.peer));
        break;
      case 'went':
        this.peers.delete(command.peer);
        break;
      case 'octets': {
        this.counters.add('octetsReceived', command.octets.length);
        this.peerNow = command.peer;
        this.isAlone = command.alone ?? false;
        this.peers.get(command.peer)?.receive(command.octets, now);
        break;
      }
      case 'controlResult':
        this.waiting.get(command.token)?.(command.outcomes);
        this.waiting.delete(command.token);
        break;
      case 'toldBefore':
      case 'owed':
      case 'rest':
      case 'setSettings':
      case 'rights':
        // Whoever operates is judged by whom it asks. It has no events: what was not read is still there.
        break;
      case 'commandGiven':
        // Clients see it in the value.
        break;
      case 'resetCounters':
        this.counters.reset(now);
        break;
      case 'stored':
      case 'carried':
      case 'notCarried':
      case 'again':
      case 'order':
      case 'guest':
        // There are no orders, and its conversations are for itself.
        break;
      default:
        command satisfies never;
    }
  }

  private update({ at, value, text, quality }: ServerUpdate<ModbusTargetAt>): void {
    const held = this.heldAt(at);
    if (held === undefined) return;
    held.value = value;
    held.text = text ?? '';
    held.quality = quality;
    held.isKnown = (quality & Quality.notSet) === 0;
    held.isFresh = true;
  }

  private responderFor(peer: number): Responder {
    return new Responder({
      framing: this.framing,
      octetMs: this.octetMs,
      clock: () => this.now,
      memoryOf: (unit) => (this.isMeant(unit) ? this.memory : null),
      send: (octets) => {
        this.counters.add('framesSent');
        this.counters.add('octetsSent', octets.length);
        // Whoever has gone meanwhile is not answered.
        if (this.peers.has(peer)) this.effects.push({ type: 'send', octets, peer });
      },
      count: (what) => {
        if (what === 'noise') this.counters.add('shortFrames');
        else this.counters.add(what);
        if (what === 'requests') this.effects.push({ type: 'heard' });
      },
    });
  }

  private isMeant(unit: number): boolean {
    if (unit === this.settings.unitId) return true;
    return this.framing === 'tcp' ? this.isAlone && WHOEVER.includes(unit) : unit === BROADCAST;
  }

  // ---- the tables

  private readonly memory: Memory = {
    identification: { 0: 'Halvix', 1: 'Telemetry gateway', 2: '1' },
    readBits: (table, address, count) => this.readBits(table, address, count),
    readRegisters: (table, address, count) => this.readRegisters(table, address, count),
    refusesRegisters: (table, address, count) => {
      const read = this.within(table, address, count);
      return typeof read === 'number' ? read : null;
    },
    writeBits: (address, bits, done) => this.writeBits(address, bits, done),
    writeRegisters: (address, registers, done) => this.writeRegisters(address, registers, done),
    maskRegister: (address, and, or, done) => this.maskRegister(address, and, or, done),
  };

  /** What lies in a range; a number: the exception that the request deserves. */
  private within(table: Table, address: number, count: number): Held[] | number {
    const own = this.tables.get(table);
    const found = new Set<Held>();
    let gaps = false;
    for (let at = address; at < address + count; at++) {
      const there = own?.get(at);
      if (there === undefined) gaps = true;
      else for (const held of there) found.add(held);
    }
    if (found.size === 0 || (gaps && !this.settings.fillsGaps)) return ExceptionCode.illegalAddress;
    const without = [...found].find((held) => !this.isSayable(held));
    if (without !== undefined) {
      this.diagnose(`${without.address} was read and has no value to show: exception 04`);
      return ExceptionCode.deviceFailure;
    }
    return [...found];
  }

  /** Whether something can be read in its place that passes for nothing else. */
  private isSayable({ kind, at, isKnown, quality }: Held): boolean {
    const isBit = isBitTable(at.table) || at.bit !== null;
    const saysNone = this.settings.invalid === 'none' && !isBit && at.type !== 'text';
    if (!isKnown) return saysNone || ((kind === 'output' || kind === 'setpoint') && this.settings.fillsGaps);
    return saysNone || (quality & Quality.notANumber) === 0 || (!isBit && isFloat(at.type));
  }

  /** The same is said once, until something else is. */
  private diagnose(words: string): void {
    if (this.diagnosed === words) return;
    this.diagnosed = words;
    this.effects.push({ type: 'diagnostic', words });
  }
  private diagnosed = '';

  private noteRead(read: readonly Held[]): void {
    const addresses: string[] = [];
    for (const held of read) {
      if (!held.isFresh) continue;
      held.isFresh = false;
      addresses.push(held.address);
    }
    if (addresses.length > 0) this.effects.push({ type: 'read', addresses });
  }

  private readBits(table: 'coils' | 'discreteInputs', address: number, count: number): Uint8Array | number {
    const read = this.within(table, address, count);
    if (typeof read === 'number') return read;
    const bits = Array.from({ length: count }, () => false);
    for (const { at, value } of read) bits[at.address - address] = value !== 0;
    this.noteRead(read);
    return packBits(bits);
  }

  private readRegisters(
    table: 'inputRegisters' | 'holdingRegisters',
    address: number,
    count: number,
  ): Uint8Array | number {
    const read = this.within(table, address, count);
    if (typeof read === 'number') return read;
    const octets = new Uint8Array(count * 2);
    for (const held of read) {
      const { at } = held;
      const offset = (at.address - address) * 2;
      if (at.bit !== null) {
        if (held.value !== 0) octets[offset + (at.bit > 7 ? 0 : 1)] |= 1 << (at.bit & 7);
        continue;
      }
      const own = this.octetsOf(held);
      // A value that begins before what was asked, or goes on behind it, is cut there.
      for (let n = 0; n < own.length; n++)
        if (offset + n >= 0 && offset + n < octets.length) octets[offset + n] = own[n];
    }
    this.noteRead(read);
    return octets;
  }

  private octetsOf({ at, value, text, quality, isKnown }: Held): Uint8Array {
    const { type, order } = at;
    if (type === 'text') return writeValue(text, type, order, widthOf(at));
    const isNone = this.settings.invalid === 'none' && (!isKnown || (quality & INVALID) !== 0);
    return holdValue(isNone ? Number.NaN : numberOnWire(value, quality), type, order, text);
  }

  // ---- writes

  private writeBits(address: number, bits: readonly boolean[], done: (exception: number | null) => void): void {
    const orders: CentreOrder[] = [];
    for (const [n, on] of bits.entries()) {
      const [held] = this.tables.get('coils')?.get(address + n) ?? [];
      if (held?.kind !== 'output') return done(ExceptionCode.illegalAddress);
      orders.push(this.switchOrder(held, on));
    }
    this.order(orders, done);
  }

  private writeRegisters(address: number, registers: Uint8Array, done: (exception: number | null) => void): void {
    const own = this.tables.get('holdingRegisters');
    const end = address + registers.length / 2;
    const orders: CentreOrder[] = [];
    const seen = new Set<Held>();
    for (let at = address; at < end; at++) {
      const there = own?.get(at) ?? [];
      if (there.length === 0) return done(ExceptionCode.illegalAddress);
      for (const held of there) {
        if (seen.has(held)) continue;
        seen.add(held);
        const from = held.at.address;
        if (from < address || from + widthOf(held.at) > end) return done(ExceptionCode.illegalAddress);
        const octets = registers.subarray((from - address) * 2, (from - address + widthOf(held.at)) * 2);
        const order = this.registerOrder(held, octets);
        if (order === 'same') continue;
        if (typeof order === 'number') return done(order);
        orders.push(order);
      }
    }
    this.order(orders, done);
  }

  private maskRegister(address: number, and: number, or: number, done: (exception: number | null) => void): void {
    const there = this.tables.get('holdingRegisters')?.get(address) ?? [];
    const orders: CentreOrder[] = [];
    for (let bit = 0; bit < 16; bit++) {
      if ((and >> bit) & 1) continue;
      const held = there.find(({ at, kind }) => at.bit === bit && kind === 'output');
      if (held === undefined) return done(ExceptionCode.illegalAddress);
      orders.push(this.switchOrder(held, ((or >> bit) & 1) === 1));
    }
    if (there.length === 0) return done(ExceptionCode.illegalAddress);
    this.order(orders, done);
  }

  /** What a write asks of one point; `same`: nothing, it is a bit that the write leaves as it is. */
  private registerOrder(held: Held, octets: Uint8Array): CentreOrder | 'same' | number {
    const { kind, at, address } = held;
    if (at.bit !== null) {
      const on = (((octets[0] << 8) | octets[1]) >> at.bit) & 1;
      if (held.isKnown && (held.value !== 0 ? 1 : 0) === on) return 'same';
      return kind === 'output' ? this.switchOrder(held, on === 1) : ExceptionCode.illegalAddress;
    }
    if (kind === 'output')
      return this.switchOrder(
        held,
        octets.some((octet) => octet !== 0),
      );
    if (kind !== 'setpoint' && kind !== 'text') return ExceptionCode.illegalAddress;
    const { value, text } = readValue(octets, at.type, at.order);
    if (!Number.isFinite(value)) return ExceptionCode.illegalValue;
    const wanted = kind === 'text' ? { counts: null, text: text ?? '' } : { counts: value };
    return { address, kind, operation: null, ...wanted, asked: '', onMs: 0, offMs: 0, count: 1 };
  }

  private switchOrder({ address }: Held, on: boolean): CentreOrder {
    return {
      ...{ address, kind: 'output', operation: null, on, counts: null, asked: on ? 'on' : 'off' },
      // The times are those of the list, where the operation is a pulse.
      ...{ onMs: 0, offMs: 0, count: 1 },
    };
  }

  private order(orders: CentreOrder[], done: (exception: number | null) => void): void {
    if (orders.length === 0) return done(null);
    this.counters.add('writes');
    const token = ++this.token;
    this.waiting.set(token, (outcomes) => {
      const bad = outcomes.map(exceptionOf).find((exception) => exception !== 0);
      done(bad ?? null);
    });
    this.effects.push({ type: 'control', token, phase: 'direct', items: orders, peer: this.peerNow });
  }
}
