import type { PointKind } from '@halvix/core/point';
import { PlainMemory, Responder, writeValue, type FramingName } from '@halvix/core/protocols/modbus';
import { clock } from '@halvix/wire';
import type { BenchDevice, PointReport } from '../benchdevice.ts';
import type { LinkUser, ListeningLink } from '../link.ts';
import type { ModbusPoint } from '../scenario/modbus.ts';
import type { Plant } from './plant.ts';

export interface ServerSettings {
  code: string;
  name: string;
  station: string;
  unit: number;
  framing: FramingName;
}

const TICK_MS = 250;
const MAX_HEARD = 10_000;

/** A simulated Modbus server on its link: a plant, and the tables through which it is seen. */
export class SimulatedServer implements LinkUser, BenchDevice {
  private readonly memory = new PlainMemory();
  private readonly responder: Responder;
  private timer: NodeJS.Timeout | null = null;
  on = false;
  operations = 0;
  readonly heardAt: number[] = [];
  /** It says nothing for so long before each answer, milliseconds. */
  answerDelayMs = 0;

  constructor(
    readonly settings: ServerSettings,
    readonly link: ListeningLink,
    private readonly plant: Plant,
  ) {
    const { unit, framing } = settings;
    this.memory.identification = plant.identification;
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

  get code(): string {
    return this.settings.code;
  }

  private heard(): void {
    this.heardAt.push(clock.now());
    if (this.heardAt.length > MAX_HEARD) this.heardAt.splice(0, MAX_HEARD / 10);
  }

  private say(octets: Uint8Array): void {
    if (this.answerDelayMs === 0) this.link.send(octets);
    else setTimeout(() => this.on && this.link.send(octets), this.answerDelayMs).unref();
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
      ({ at, kind }) =>
        at.table === table &&
        at.address >= address &&
        at.address < address + count &&
        (kind === 'output' || kind === 'setpoint'),
    );
    if (written.length === 0) return done(0x02);
    take();
    for (const { key, at } of written) {
      const value =
        table === 'coils'
          ? Number(this.memory.bits.coils.get(at.address))
          : Number(this.memory.registers.holdingRegisters.get(at.address));
      const signed = at.type === 'int16' && value > 0x7fff ? value - 0x1_0000 : value;
      const exception = this.plant.write(key, signed);
      if (exception !== null) return done(exception);
      this.operations++;
    }
    this.show();
    done(null);
  }

  // ---- its link

  up(): void {
    this.responder.reset();
  }
  down(): void {
    this.responder.reset();
  }
  data(octets: Uint8Array): void {
    this.responder.receive(octets, clock.now());
  }

  async power(on: boolean): Promise<void> {
    if (on === this.on) return;
    this.on = on;
    if (on) {
      this.show();
      this.timer = setInterval(() => {
        this.plant.tick(clock.now());
      }, TICK_MS);
      await this.link.join(this);
    } else {
      if (this.timer !== null) clearInterval(this.timer);
      await this.link.leave(this);
    }
  }

  // ---- its values

  private valueOf({ key }: ModbusPoint): number | string {
    return this.plant.value(key);
  }

  /** Puts what the plant has into the tables. */
  private show(): void {
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

  points(): PointReport[] {
    return this.plant.points.map((point) => ({
      ...{ kind: point.kind, index: point.at.address, name: point.name },
      value: Number(this.valueOf(point)) || 0,
      ...(typeof this.valueOf(point) === 'string' ? { text: String(this.valueOf(point)) } : {}),
    }));
  }

  private pointAt(kind: PointKind, index: number): ModbusPoint | undefined {
    return this.plant.points.find((point) => point.kind === kind && point.at.address === index);
  }
  hasPoint(kind: PointKind, index: number): boolean {
    return this.pointAt(kind, index) !== undefined;
  }
  force(kind: PointKind, index: number, value: number): void {
    const point = this.pointAt(kind, index);
    if (point) this.plant.forced.set(point.key, value);
  }
  release(kind: PointKind, index: number): void {
    const point = this.pointAt(kind, index);
    if (point) this.plant.forced.delete(point.key);
  }

  report(): object {
    const { code, name, station, unit } = this.settings;
    return {
      ...{ code, name, station, protocol: 'modbus', address: unit },
      ...{ port: this.link.port, link: this.link.code, connected: this.link.connected },
      ...{
        eventsWaiting: 0,
        eventsDropped: 0,
        clockOffsetMs: 0,
        faults: { driftPpm: 0, answerDelayMs: this.answerDelayMs },
      },
      ...{
        sleeps: false,
        hasEvents: false,
        on: this.on,
        operations: this.operations,
        pulses: [],
        problem: this.link.problem,
      },
    };
  }
}

const WIDTHS = {
  ...{ uint16: 1, int16: 1, bcd16: 1, uint32: 2, int32: 2, float32: 2, bcd32: 2, time32: 2 },
  ...{ uint64: 4, int64: 4, float64: 4, text: 0 },
};
