import type { ModbusPoint } from '../scenario/modbus.ts';
import { ENERGY_METER, FLOW_COMPUTER, TRANSFORMER_MONITOR } from '../scenario/modbus.ts';

/** What a plant does behind a Modbus server: values alive in time, and what is written to it. */
export interface Plant {
  readonly points: readonly ModbusPoint[];
  /** Values that somebody forces, in counts: the plant has them for true. */
  readonly forced: Map<string, number>;
  /** In counts of the point; of a text the text. */
  value(key: string): number | string;
  tick(now: number): void;
  /** Takes a value, or says with which exception not. */
  write(key: string, value: number): number | null;
  identification: Record<number, string>;
}

const DEVICE_FAILURE = 0x04;
const DAY_MS = 86_400_000;

abstract class LivePlant implements Plant {
  readonly forced = new Map<string, number>();
  protected readonly values = new Map<string, number | string>();
  private last: number;
  abstract readonly identification: Record<number, string>;

  constructor(
    readonly points: readonly ModbusPoint[],
    now: number,
    private readonly random: () => number,
  ) {
    this.last = now;
  }

  value(key: string): number | string {
    return this.forced.get(key) ?? this.values.get(key) ?? 0;
  }
  protected number(key: string): number {
    return Number(this.value(key));
  }

  tick(now: number): void {
    this.live(now, Math.max(0, now - this.last) / 1000);
    this.last = now;
  }

  /** The value and a little noise. */
  protected noisy(value: number, noise: number): number {
    return value + (this.random() - 0.5) * 2 * noise;
  }

  protected abstract live(now: number, seconds: number): void;
  abstract write(key: string, value: number): number | null;
}

/** The gas flows as wanted while the valve is open. */
export class FlowComputer extends LivePlant {
  readonly identification = { 0: 'The bench', 1: 'Flow computer, simulated', 2: '2.1.0' };
  private volume = 81_500_000;
  private energy = 9_007_199_254_750_000;
  private flow = 300;

  constructor(now: number, random: () => number) {
    super(FLOW_COMPUTER, now, random);
    for (const [key, value] of Object.entries({ wanted: 3200, valve: 1, remote: 1, serial: 'FC-204417' }))
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

  write(key: string, value: number): number | null {
    // In local the panel alone moves anything.
    if (this.number('remote') === 0) return DEVICE_FAILURE;
    if (key === 'wanted' && value > 5000) return 0x03;
    this.values.set(key, value);
    return null;
  }
}

/** The oil follows the load; fans cool it. */
export class TransformerMonitor extends LivePlant {
  readonly identification = { 0: 'The bench', 1: 'Transformer monitor, simulated', 2: '1.0.3' };
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

  write(key: string, value: number): number | null {
    this.values.set(key, value);
    return null;
  }
}

/** A string of the solar park: its power follows the sun. */
export class EnergyMeter extends LivePlant {
  readonly identification;
  private energy: number;

  constructor(
    private readonly unit: number,
    now: number,
    random: () => number,
  ) {
    super(ENERGY_METER, now, random);
    this.identification = { 0: 'The bench', 1: 'Energy meter, simulated', 2: `unit ${unit}` };
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

  write(key: string, value: number): number | null {
    this.values.set(key, value);
    return null;
  }
}
