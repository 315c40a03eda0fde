import { ControlStatus, controlOperation, type ControlBlock, type Setpoint } from '@halvix/core/protocols/dnp3';
import type { PointKind } from '@halvix/core/point';
import type { DeviceModel, Sample } from './model.ts';
import type { RelayPoint } from './scenario/feederrelay.ts';

/** Values of a station, by kind, that its model sets; what a kind lacks has no points. */
class Values {
  private readonly byKind = new Map<PointKind, number[]>();

  constructor(readonly points: readonly RelayPoint[]) {
    for (const { kind, index } of points) {
      const list = this.byKind.get(kind) ?? [];
      list[index] = 0;
      this.byKind.set(kind, list);
    }
  }

  get(kind: PointKind, index: number): number | undefined {
    return this.byKind.get(kind)?.[index];
  }

  set(kind: PointKind, index: number, value: number): void {
    const list = this.byKind.get(kind);
    if (list?.[index] !== undefined) list[index] = Math.round(value);
  }

  add(kind: PointKind, index: number, more: number): void {
    this.set(kind, index, (this.get(kind, index) ?? 0) + more);
  }
}

abstract class StationModel implements DeviceModel {
  protected readonly values: Values;
  readonly nextMove: number | null = null;
  abstract readonly remoteSwitch: number | null;
  protected abstract readonly clockInput: number;
  protected lastTick: number;

  constructor(
    readonly points: readonly RelayPoint[],
    now: number,
    protected readonly random: () => number,
  ) {
    this.values = new Values(points);
    this.lastTick = now;
  }

  get stormPoints(): { kind: PointKind; index: number }[] {
    return this.points.filter(({ kind }) => kind === 'analog').map(({ kind, index }) => ({ kind, index }));
  }

  get clockSynchronised(): boolean {
    return this.values.get('binary', this.clockInput) === 1;
  }

  set clockSynchronised(synchronised: boolean) {
    this.values.set('binary', this.clockInput, synchronised ? 1 : 0);
  }

  value(kind: PointKind, index: number): number | undefined {
    return this.values.get(kind, index);
  }

  operate(_index: number, _block: ControlBlock, _local: boolean, _now: number, _execute: boolean): number {
    return ControlStatus.notSupported;
  }

  clearCounters(indexes: readonly number[]): void {
    for (const index of indexes) this.values.set('counter', index, 0);
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
export class GateStation extends StationModel {
  readonly remoteSwitch = 1;
  protected readonly clockInput = 4;
  private openings = [0.35, 0];
  private wanted = [0.35, 0];
  private level: number;
  private volume = 0;
  private lastOrder = 'none since power up';

  constructor(points: readonly RelayPoint[], now: number, random: () => number, level: number) {
    super(points, now, random);
    this.level = level;
    for (const index of [0, 1, 3]) this.values.set('binary', index, 1);
    this.values.set('setpoint', 0, level * 1000);
    this.live(now, 0);
  }

  override operate(index: number, block: ControlBlock, local: boolean, _now: number, execute: boolean): number {
    if (this.values.get('output', index) === undefined) return ControlStatus.notSupported;
    if (local) return ControlStatus.local;
    const operation = controlOperation(block.code);
    if (operation !== 'latchOn' && operation !== 'latchOff') return ControlStatus.notSupported;
    if (!execute) return ControlStatus.success;
    this.wanted[index] = operation === 'latchOn' ? 1 : 0;
    this.lastOrder = `${this.points.find((p) => p.kind === 'output' && p.index === index)?.name} ${operation === 'latchOn' ? 'open' : 'close'}`;
    this.values.set('output', index, this.wanted[index]);
    this.values.add('counter', 1, 1);
    return ControlStatus.success;
  }

  setTo(index: number, { value }: Setpoint, local: boolean, execute: boolean): number {
    if (local) return ControlStatus.local;
    if (value < 500 || value > 4000) return ControlStatus.outOfRange;
    if (!execute) return ControlStatus.success;
    this.values.set('setpoint', index, value);
    this.lastOrder = `level ${(value / 1000).toFixed(3)} m`;
    return ControlStatus.success;
  }

  text(_index: number): string {
    return this.lastOrder;
  }

  protected live(_now: number, seconds: number): void {
    this.openings = this.openings.map((opening, i) => {
      const way = this.wanted[i] - opening;
      return opening + Math.sign(way) * Math.min(Math.abs(way), seconds / GATE_TRAVEL_S);
    });
    this.openings.forEach((opening, i) => {
      this.values.set('analog', i, opening * 1000);
      const state = opening >= 1 ? DOUBLE.open : opening <= 0 ? DOUBLE.closed : DOUBLE.moving;
      this.values.set('doubleBit', i, state);
    });
    const opening = this.openings[0] + 0.6 * this.openings[1];
    // The canal brings 6 m³/s on 4000 m² of pond; what leaves follows the root of the head.
    const flow = 12 * opening * Math.sqrt(Math.max(0, this.level - 0.4));
    this.level = Math.max(0.4, Math.min(4, this.level + ((6 - flow) / 4000) * seconds));
    this.volume += flow * seconds;
    this.values.set('analog', 2, this.wander(this.level * 1000, 4));
    this.values.set('analog', 3, this.wander(400 + flow * 55, 4));
    this.values.set('analog', 4, this.wander(flow * 1000, 30));
    this.values.set('analog', 5, this.wander(1340, 6));
    this.values.set('analog', 6, this.wander(84, 4));
    this.values.set('analog', 7, this.wander(-74, 3));
    this.values.set('binary', 7, this.level > 3.2 ? 1 : 0);
    this.values.set('counter', 0, this.volume);
  }

  override clearCounters(indexes: readonly number[]): void {
    super.clearCounters(indexes);
    if (indexes.includes(0)) this.volume = 0;
  }
}

/** A hut on a hill with a repeater in it. */
export class RepeaterHut extends StationModel {
  readonly remoteSwitch = null;
  protected readonly clockInput = 4;
  private keyings = 0;

  constructor(points: readonly RelayPoint[], now: number, random: () => number) {
    super(points, now, random);
    for (const index of [0, 2, 3]) this.values.set('binary', index, 1);
    this.live(now, 0);
  }

  protected live(_now: number, seconds: number): void {
    this.keyings += seconds * 0.7;
    this.values.set('analog', 0, this.wander(1362, 6));
    this.values.set('analog', 1, this.wander(42, 8));
    this.values.set('analog', 2, this.wander(31, 4));
    this.values.set('analog', 3, this.wander(-71, 3));
    this.values.set('analog', 4, this.wander(-79, 3));
    this.values.set('counter', 0, this.keyings);
  }
}

/** Analogs of the logger that are sampled, whatever their change. */
const SAMPLED = [0, 1, 2];

/** A logger that takes a sample of pressure and flow at a fixed interval, awake or not. */
export class ValveLogger extends StationModel {
  readonly remoteSwitch = null;
  protected readonly clockInput = 2;
  private nextSample: number;
  private samples: Sample[] = [];
  private volume = 0;

  constructor(
    points: readonly RelayPoint[],
    now: number,
    random: () => number,
    private readonly sampleMs: number,
  ) {
    super(points, now, random);
    this.nextSample = Math.ceil(now / sampleMs) * sampleMs;
    this.values.set('binary', 1, 1);
    this.live(now, 0);
  }

  /** The samples taken since the last call, oldest first. */
  takeSamples(): Sample[] {
    return this.samples.splice(0);
  }

  override get stormPoints(): { kind: PointKind; index: number }[] {
    return [{ kind: 'analog', index: 3 }];
  }

  protected live(now: number, seconds: number): void {
    const swing = Math.sin((now / 900_000) * 2 * Math.PI);
    this.values.set('analog', 0, this.wander(6200 + 120 * swing, 30));
    this.values.set('analog', 1, this.wander(3400 + 60 * swing, 30));
    const flow = 1850 + 420 * swing;
    this.values.set('analog', 2, this.wander(flow, 60));
    this.values.set('analog', 3, this.wander(3590, 4));
    this.volume += (flow / 100 / 1000) * seconds;
    this.values.set('counter', 0, this.volume * 10);
    for (; now >= this.nextSample; this.nextSample += this.sampleMs)
      for (const index of SAMPLED)
        this.samples.push({
          kind: 'analog',
          index,
          value: this.values.get('analog', index) ?? 0,
          time: this.nextSample,
        });
  }
}
