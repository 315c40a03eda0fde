import { PlainMemory, readValue, Responder, writeValue, type FramingName } from '@halvix/core/protocols/modbus';
import { clock } from '@halvix/wire';
import type { BenchLink } from '../link.ts';
import type { Order, Plant, Refusal } from '../plant.ts';
import { isWritten, type ModbusPoint } from '../scenario/modbus.ts';
import { StandIn, type StandInSettings } from '../standin.ts';

/** A plant whose points have their places in the tables of a Modbus server. */
export type MappedPlant = Plant<ModbusPoint>;

export interface ServerStandInSettings extends StandInSettings {
  unit: number;
  framing: FramingName;
}

/** Modbus Application Protocol V1.1b3, clause 7. */
const EXCEPTION: Record<Refusal, number> = { local: 0x04, blocked: 0x04, notSupported: 0x02, outOfRange: 0x03 };
const ILLEGAL_ADDRESS = 0x02;

/** Speaks Modbus for a plant: the tables through which it is seen. */
export class ServerStandIn extends StandIn<ModbusPoint> {
  protected readonly protocol = 'modbus';
  protected readonly address;
  private readonly memory = new PlainMemory();
  private readonly responder: Responder;

  constructor({ unit, framing, ...settings }: ServerStandInSettings, link: BenchLink, plant: MappedPlant) {
    super(settings, link, plant);
    this.address = unit;
    this.memory.identification = { 0: 'The bench', 1: plant.product, 2: plant.version };
    this.responder = new Responder({
      framing,
      octetMs: 0,
      memoryOf: (asked) => (asked === unit || (asked === 0 && framing !== 'tcp') ? this.guarded() : null),
      send: (octets) => this.say(octets),
      count: (what) => {
        if (what === 'requests') this.heard();
      },
    });
  }

  protected indexOf({ at }: ModbusPoint): number {
    return at.address;
  }

  /** The plant decides what may be written. */
  private guarded(): PlainMemory {
    const { memory } = this;
    this.show();
    const own = Object.create(memory) as PlainMemory;
    own.writeBits = (address, bits, done) =>
      this.write('coils', address, bits.length, done, () => memory.writeBits(address, bits, () => {}));
    own.writeRegisters = (address, registers, done) =>
      this.write('holdingRegisters', address, registers.length / 2, done, () =>
        memory.writeRegisters(address, registers, () => {}),
      );
    return own;
  }

  private write(
    table: 'coils' | 'holdingRegisters',
    address: number,
    count: number,
    done: (exception: number | null) => void,
    take: () => void,
  ): void {
    const written = this.plant.points.filter(
      (point) =>
        point.at.table === table &&
        point.at.address >= address &&
        point.at.address < address + count &&
        isWritten(point),
    );
    if (written.length === 0) return done(ILLEGAL_ADDRESS);
    take();
    for (const { key, at } of written) {
      const refusal = this.plant.operate(key, this.orderAt(at), clock.now(), true);
      if (refusal !== null) return done(EXCEPTION[refusal]);
      this.operations++;
    }
    this.show();
    done(null);
    this.tickAtMove();
  }

  /** What was written there, as an order. */
  private orderAt({ table, address, type, order, registers }: ModbusPoint['at']): Order {
    const times = { onMs: 0, offMs: 0, count: 1 };
    if (table === 'coils') {
      const on = this.memory.bits.coils.get(address) === true;
      return { operation: on ? 'latchOn' : 'latchOff', counts: null, ...times };
    }
    const { holdingRegisters } = this.memory.registers;
    if (type === 'text') {
      const there = Array.from({ length: registers }, (_, n) => holdingRegisters.get(address + n) ?? 0);
      const octets = Uint8Array.from(there.flatMap((one) => [one >> 8, one & 0xff]));
      return { operation: null, counts: null, text: readValue(octets, type, order).text ?? '', ...times };
    }
    const register = Number(holdingRegisters.get(address));
    return {
      operation: null,
      counts: type === 'int16' && register > 0x7fff ? register - 0x1_0000 : register,
      ...times,
    };
  }

  // ---- its link and its power

  up(): void {
    this.responder.reset();
  }
  down(): void {
    this.responder.reset();
  }
  data(octets: Uint8Array): void {
    this.responder.receive(octets, clock.now());
  }
  protected begin(): void {
    this.show();
  }
  protected end(): void {}

  // ---- its values

  /** Puts what the plant has into the tables. */
  protected show(): void {
    const { bits, registers } = this.memory;
    for (const point of this.plant.points) {
      const { table, address, bit, type, order } = point.at;
      const value = this.valueOf(point);
      if (table === 'coils' || table === 'discreteInputs') bits[table].set(address, Number(value) !== 0);
      else if (bit !== null) {
        const before = registers[table].get(address) ?? 0;
        registers[table].set(address, Number(value) !== 0 ? before | (1 << bit) : before & ~(1 << bit));
      } else {
        const count = type === 'text' ? point.at.registers : WIDTHS[type];
        this.memory.put(table, address, writeValue(value, type, order, count));
      }
    }
  }
}

const WIDTHS = {
  ...{ uint16: 1, int16: 1, bcd16: 1, uint32: 2, int32: 2, float32: 2, bcd32: 2, time32: 2 },
  ...{ uint64: 4, int64: 4, float64: 4, text: 0 },
};
