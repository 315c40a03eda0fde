import type { PointKind } from '@halvix/core/point';
import type { NumberedPoint } from '../scenario/feederrelay.ts';
import { numberedKey, Values, type Order, type Plant, type Refusal, type Sample } from '../plant.ts';

abstract class Station implements Plant<NumberedPoint> {
  private readonly values: Values;
  abstract readonly product: string;
  readonly version = '1.4.0';
  readonly forced = new Map<string, number>();
  readonly nextMove: number | null = null;
  /** The input that shows local or remote; null: it has none. */
  protected readonly remoteSwitch: number | null = null;
  protected abstract readonly clockInput: number;
  protected lastTick: number;

  constructor(
    readonly points: readonly NumberedPoint[],
    now: number,
    protected readonly random: () => number,
  ) {
    this.values = new Values(points);
    this.lastTick = now;
  }

  get stormPoints(): readonly NumberedPoint[] {
    return this.points.filter(({ kind }) => kind === 'analog');
  }

  get clockSynchronised(): boolean {
    return this.number('binary', this.clockInput) === 1;
  }

  set clockSynchronised(synchronised: boolean) {
    this.set('binary', this.clockInput, synchronised ? 1 : 0);
  }

  get isLocal(): boolean {
    if (this.remoteSwitch === null) return false;
    const key = numberedKey('binary', this.remoteSwitch);
    return (this.forced.get(key) ?? this.values.get(key)) === 0;
  }

  value(key: string): number | string | undefined {
    return this.values.get(key);
  }

  protected number(kind: PointKind, index: number): number {
    return Number(this.values.get(numberedKey(kind, index)) ?? 0);
  }

  protected set(kind: PointKind, index: number, value: number | string): void {
    this.values.set(numberedKey(kind, index), typeof value === 'number' ? Math.round(value) : value);
  }

  operate(_key: string, _order: Order, _now: number, _execute: boolean): Refusal | null {
    return 'notSupported';
  }

  clearCounters(keys: readonly string[]): void {
    for (const key of keys) this.values.set(key, 0);
  }

  tick(now: number): void {
    this.live(now, Math.max(0, now - this.lastTick) / 1000);
    this.lastTick = now;
  }

  protected abstract live(now: number, seconds: number): void;

  protected wander(around: number, width: number): number {
    return around + (this.random() - 0.5) * width;
  }
}

/** From end to end, seconds. */
const GATE_TRAVEL_S = 60;
const DOUBLE = { moving: 0, closed: 1, open: 2 };

/**
 * Two gates in a canal. A gate moves sixty seconds from end to end and is neither open nor closed meanwhile; the
 * upstream level answers the openings, and the flow follows both.
 */
export class GateStation extends Station {
  readonly product = 'Gate RTU';
  protected override readonly remoteSwitch = 1;
  protected readonly clockInput = 4;
  private openings = [0.35, 0];
  private wanted = [0.35, 0];
  private level: number;
  private volume = 0;

  constructor(points: readonly NumberedPoint[], now: number, random: () => number, level: number) {
    super(points, now, random);
    this.level = level;
    for (const index of [0, 1, 3]) this.set('binary', index, 1);
    this.set('setpoint', 0, level * 1000);
    this.set('text', 0, 'none since power up');
    this.live(now, 0);
  }

  override operate(key: string, { operation, counts }: Order, _now: number, execute: boolean): Refusal | null {
    const point = this.points.find((one) => one.key === key);
    if (point?.kind !== 'output' && point?.kind !== 'setpoint') return 'notSupported';
    if (this.isLocal) return 'local';
    if (point.kind === 'setpoint') {
      if (counts === null || counts < 500 || counts > 4000) return 'outOfRange';
      if (execute) this.noteOrder(point, counts, `level ${(counts / 1000).toFixed(3)} m`);
      return null;
    }
    if (operation !== 'latchOn' && operation !== 'latchOff') return 'notSupported';
    if (!execute) return null;
    const opens = operation === 'latchOn';
    this.wanted[point.index] = opens ? 1 : 0;
    this.noteOrder(point, this.wanted[point.index], `${point.name} ${opens ? 'open' : 'close'}`);
    this.set('counter', 1, this.number('counter', 1) + 1);
    return null;
  }

  private noteOrder({ kind, index }: NumberedPoint, value: number, words: string): void {
    this.set(kind, index, value);
    this.set('text', 0, words);
  }

  protected live(_now: number, seconds: number): void {
    this.openings = this.openings.map((opening, i) => {
      const way = this.wanted[i] - opening;
      return opening + Math.sign(way) * Math.min(Math.abs(way), seconds / GATE_TRAVEL_S);
    });
    this.openings.forEach((opening, i) => {
      this.set('analog', i, opening * 1000);
      const state = opening >= 1 ? DOUBLE.open : opening <= 0 ? DOUBLE.closed : DOUBLE.moving;
      this.set('doubleBit', i, state);
    });
    const opening = this.openings[0] + 0.6 * this.openings[1];
    // The canal brings 6 m³/s on 4000 m² of pond; what leaves follows the root of the head.
    const flow = 12 * opening * Math.sqrt(Math.max(0, this.level - 0.4));
    this.level = Math.max(0.4, Math.min(4, this.level + ((6 - flow) / 4000) * seconds));
    this.volume += flow * seconds;
    this.set('analog', 2, this.wander(this.level * 1000, 4));
    this.set('analog', 3, this.wander(400 + flow * 55, 4));
    this.set('analog', 4, this.wander(flow * 1000, 30));
    this.set('analog', 5, this.wander(1340, 6));
    this.set('analog', 6, this.wander(84, 4));
    this.set('analog', 7, this.wander(-74, 3));
    this.set('binary', 7, this.level > 3.2 ? 1 : 0);
    this.set('counter', 0, this.volume);
  }

  override clearCounters(keys: readonly string[]): void {
    super.clearCounters(keys);
    if (keys.includes(numberedKey('counter', 0))) this.volume = 0;
  }
}

/** A hut on a hill with a repeater in it. */
export class RepeaterHut extends Station {
  readonly product = 'Hut RTU';
  protected readonly clockInput = 4;
  private keyings = 0;

  constructor(points: readonly NumberedPoint[], now: number, random: () => number) {
    super(points, now, random);
    for (const index of [0, 2, 3]) this.set('binary', index, 1);
    this.live(now, 0);
  }

  protected live(_now: number, seconds: number): void {
    this.keyings += seconds * 0.7;
    this.set('analog', 0, this.wander(1362, 6));
    this.set('analog', 1, this.wander(42, 8));
    this.set('analog', 2, this.wander(31, 4));
    this.set('analog', 3, this.wander(-71, 3));
    this.set('analog', 4, this.wander(-79, 3));
    this.set('counter', 0, this.keyings);
  }
}

/** Analogs of the logger that are sampled, whatever their change. */
const SAMPLED = [0, 1, 2];

/** A logger that takes a sample of pressure and flow at a fixed interval, awake or not. */
export class ValveLogger extends Station {
  readonly product = 'Logger';
  protected readonly clockInput = 2;
  private nextSample: number;
  private samples: Sample[] = [];
  private volume = 0;

  constructor(
    points: readonly NumberedPoint[],
    now: number,
    random: () => number,
    private readonly sampleMs: number,
  ) {
    super(points, now, random);
    this.nextSample = Math.ceil(now / sampleMs) * sampleMs;
    this.set('binary', 1, 1);
    this.live(now, 0);
  }

  takeSamples(): Sample[] {
    return this.samples.splice(0);
  }

  override get stormPoints(): readonly NumberedPoint[] {
    return super.stormPoints.filter(({ index }) => index === 3);
  }

  protected live(now: number, seconds: number): void {
    const swing = Math.sin((now / 900_000) * 2 * Math.PI);
    this.set('analog', 0, this.wander(6200 + 120 * swing, 30));
    this.set('analog', 1, this.wander(3400 + 60 * swing, 30));
    const flow = 1850 + 420 * swing;
    this.set('analog', 2, this.wander(flow, 60));
    this.set('analog', 3, this.wander(3590, 4));
    this.volume += (flow / 100 / 1000) * seconds;
    this.set('counter', 0, this.volume * 10);
    for (; now >= this.nextSample; this.nextSample += this.sampleMs)
      for (const index of SAMPLED)
        this.samples.push({
          key: numberedKey('analog', index),
          value: this.number('analog', index),
          time: this.nextSample,
        });
  }
}
