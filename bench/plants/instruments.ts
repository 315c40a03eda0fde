import { ENERGY_METER, FLOW_COMPUTER, isWritten, TRANSFORMER_MONITOR, type ModbusPoint } from '../scenario/modbus.ts';
import type { Order, Plant, Refusal } from '../plant.ts';

const DAY_MS = 86_400_000;

abstract class Instrument implements Plant<ModbusPoint> {
  readonly forced = new Map<string, number>();
  protected readonly values = new Map<string, number | string>();
  private last: number;
  abstract readonly product: string;
  abstract readonly version: string;
  readonly nextMove = null;
  readonly stormPoints = [];
  clockSynchronised = false;

  constructor(
    readonly points: readonly ModbusPoint[],
    now: number,
    private readonly random: () => number,
  ) {
    this.last = now;
  }

  /** The plant has what is forced for true. */
  value(key: string): number | string | undefined {
    return this.forced.get(key) ?? this.values.get(key);
  }
  protected number(key: string): number {
    return Number(this.value(key) ?? 0);
  }

  tick(now: number): void {
    this.live(now, Math.max(0, now - this.last) / 1000);
    this.last = now;
  }

  /** The value and a little noise. */
  protected noisy(value: number, noise: number): number {
    return value + (this.random() - 0.5) * 2 * noise;
  }

  get isLocal(): boolean {
    return this.value('remote') === 0;
  }

  operate(key: string, { operation, counts, text }: Order, _now: number, execute: boolean): Refusal | null {
    const point = this.points.find((one) => one.key === key);
    if (point === undefined || !isWritten(point)) return 'notSupported';
    if (this.isLocal) return 'local';
    const value = text ?? counts ?? (operation === 'latchOff' ? 0 : 1);
    if (typeof value === 'number' && !this.accepts(key, value)) return 'outOfRange';
    if (execute) this.values.set(key, value);
    return null;
  }

  protected accepts(_key: string, _value: number): boolean {
    return true;
  }

  protected abstract live(now: number, seconds: number): void;
}

/** The gas flows as wanted while the valve is open. */
export class FlowComputer extends Instrument {
  readonly product = 'Flow computer, simulated';
  readonly version = '2.1.0';
  private volume = 81_500_000;
  private energy = 9_007_199_254_750_000;
  private flow = 300;

  constructor(now: number, random: () => number) {
    super(FLOW_COMPUTER, now, random);
    for (const [key, value] of Object.entries({
      wanted: 3200,
      valve: 1,
      remote: 1,
      serial: 'FC-204417',
      batch: 'AUTUMN 12',
    }))
      this.values.set(key, value);
    this.values.set('started', Math.floor(now / 1000) - 86_400 * 12);
    this.live(now, 0);
  }

  protected live(now: number, seconds: number): void {
    const open = this.number('valve') === 1;
    const wanted = open ? this.number('wanted') / 10 : 0;
    this.flow += (wanted - this.flow) * Math.min(1, seconds / 2);
    const cycle = Math.sin((now / 240_000) * 2 * Math.PI);
    const flow = Math.max(0, this.noisy(this.flow, this.flow * 0.004));
    const heating = 36.4 + 0.5 * cycle;
    this.volume += (flow * seconds) / 3600;
    this.energy += (flow * heating * seconds) / 3600 / 3.6;
    const numbers = {
      flow,
      pressure: this.noisy(4.02 - flow / 4000, 0.005),
      temperature: this.noisy(11 + 2 * cycle, 0.05),
      power: (flow * heating) / 3600,
      heating,
      volume: Math.floor(this.volume),
      energy: Math.floor(this.energy),
      isOpen: open ? 1 : 0,
      isShut: open ? 0 : 1,
    };
    for (const [key, value] of Object.entries(numbers)) this.values.set(key, value);
    for (const key of ['lowPressure', 'lowOdour', 'offGrade', 'purge'])
      if (!this.values.has(key)) this.values.set(key, 0);
  }

  protected override accepts(key: string, value: number): boolean {
    return key !== 'wanted' || (value >= 0 && value <= 5000);
  }
}

/** The oil follows the load; fans cool it. */
export class TransformerMonitor extends Instrument {
  readonly product = 'Transformer monitor, simulated';
  readonly version = '1.0.3';
  private oil = 520;

  constructor(now: number, random: () => number) {
    super(TRANSFORMER_MONITOR, now, random);
    for (const [key, value] of Object.entries({
      fanStart: 650,
      fans: 0,
      gasRelay: 0,
      tap: 9,
      moisture: 12,
      hydrogen: 31,
    }))
      this.values.set(key, value);
    this.live(now, 0);
  }

  protected live(now: number, seconds: number): void {
    const load = 620 + 180 * Math.sin((now / DAY_MS) * 2 * Math.PI);
    const run = this.number('fans') === 1 || this.oil > this.number('fanStart');
    const target = 350 + load * 0.4 - (run ? 120 : 0);
    this.oil += (target - this.oil) * Math.min(1, seconds / 60);
    this.values.set('load', Math.round(this.noisy(load, 4)));
    this.values.set('oil', Math.round(this.noisy(this.oil, 2)));
    this.values.set('winding', Math.round(this.noisy(this.oil + load * 0.12, 3)));
    this.values.set('ambient', Math.round(this.noisy(140, 3)));
    this.values.set('fansRun', run ? 1 : 0);
  }
}

/** A string of the solar park: its power follows the sun. */
export class EnergyMeter extends Instrument {
  readonly product = 'Energy meter, simulated';
  readonly version;
  private energy: number;

  constructor(
    private readonly unit: number,
    now: number,
    random: () => number,
  ) {
    super(ENERGY_METER, now, random);
    this.version = `unit ${unit}`;
    this.energy = 1_000_000 * unit;
    this.values.set('serial', `EM-${6400 + unit}`);
    this.values.set('relay', 1);
    this.live(now, 0);
  }

  protected live(now: number, seconds: number): void {
    const sun = Math.max(0.02, Math.sin(((now % DAY_MS) / DAY_MS) * 2 * Math.PI - Math.PI / 2));
    const closed = this.number('relay');
    const power = closed * this.noisy(110 * sun * (1 - (this.unit % 4) * 0.03), 1.2);
    const voltage = this.noisy(231 + sun * 4, 0.4);
    this.energy += (Math.max(0, power) * seconds * 10) / 3600;
    this.values.set('power', power);
    this.values.set('voltage', voltage);
    this.values.set('current', (power * 1000) / voltage);
    this.values.set('frequency', this.noisy(50, 0.02));
    this.values.set('energy', Math.floor(this.energy));
  }
}
