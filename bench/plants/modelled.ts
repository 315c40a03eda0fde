import { BAY_POINTS, PARK_POINTS, type ModelPoint } from '../scenario/iec61850.ts';
import { recordFiles } from '../scenario/record.ts';
import type { Order, Plant, PlantFile, Refusal } from '../plant.ts';

/** Opening and closing times of the breaker, milliseconds. */
const MOVES_IN_MS = 60;
const [MOVING, OPEN, CLOSED] = [0, 1, 2];
const DAY_MS = 86_400_000;

abstract class Modelled implements Plant<ModelPoint> {
  readonly forced = new Map<string, number>();
  protected readonly values = new Map<string, number>();
  abstract readonly product: string;
  readonly version = '3.0.2';
  readonly stormPoints: readonly ModelPoint[] = [];
  clockSynchronised = true;
  nextMove: number | null = null;
  private last: number;

  constructor(
    readonly points: readonly ModelPoint[],
    now: number,
    private readonly random: () => number,
  ) {
    this.last = now;
  }

  value(key: string): number | undefined {
    return this.forced.get(key) ?? this.values.get(key);
  }
  protected number(key: string): number {
    return this.value(key) ?? 0;
  }
  protected noisy(value: number, noise: number): number {
    return value + (this.random() - 0.5) * 2 * noise;
  }

  tick(now: number): void {
    this.live(now, Math.max(0, now - this.last) / 1000);
    this.last = now;
  }

  get isLocal(): boolean {
    return this.number('local') === 1;
  }

  operate(key: string, order: Order, now: number, execute: boolean): Refusal | null {
    const point = this.points.find((one) => one.key === key);
    if (point === undefined || (point.kind !== 'output' && point.kind !== 'setpoint')) return 'notSupported';
    if (this.isLocal) return 'local';
    if (
      point.setting &&
      (order.counts === null || order.counts < point.setting.low || order.counts > point.setting.high)
    )
      return 'outOfRange';
    return this.carryOut(key, order, now, execute);
  }

  protected abstract live(now: number, seconds: number): void;
  protected abstract carryOut(key: string, order: Order, now: number, execute: boolean): Refusal | null;
}

/** A bay whose breaker is operated: its load follows the day; open, it carries nothing. */
export class BayIed extends Modelled {
  readonly product = 'Bay controller, simulated';
  private target: typeof OPEN | typeof CLOSED | null = null;
  private energy = 4_410_772;
  files: readonly PlantFile[];

  constructor(now: number, random: () => number) {
    super(BAY_POINTS, now, random);
    for (const [key, value] of Object.entries({
      breaker: CLOSED,
      switch: CLOSED,
      control: 1,
      operations: 214,
      heater: 1,
    }))
      this.values.set(key, value);
    for (const key of ['local', 'started', 'tripped', 'gas']) this.values.set(key, 0);
    this.values.set('spring', 1);
    this.files = recordFiles(1, { time: now - 3_600_000, amperes: 262, kilovolts: 19.1 });
    this.live(now, 0);
  }

  protected live(now: number, seconds: number): void {
    if (this.target !== null && now >= (this.nextMove ?? 0)) {
      this.values.set('breaker', this.target);
      this.values.set('switch', this.target);
      this.values.set('control', this.target === CLOSED ? 1 : 0);
      [this.target, this.nextMove] = [null, null];
    }
    const isClosed = this.number('breaker') === CLOSED;
    const current = isClosed ? 260 + 90 * Math.sin(((now % DAY_MS) / DAY_MS) * 2 * Math.PI) : 0;
    const [flow, tension] = [this.noisy(current, current * 0.004), this.noisy(19.1, 0.015)];
    for (let n = 0; n < 3; n++) {
      this.values.set(`current${n}`, isClosed ? this.noisy(flow, 1) : 0);
      this.values.set(`voltage${n}`, this.noisy(tension, 0.01));
    }
    const power = (3 * tension * flow) / 1000;
    this.values.set('power', power);
    this.values.set('reactive', power * 0.21);
    this.values.set('frequency', this.noisy(50, 0.02));
    this.energy += (power * 1000 * seconds) / 3600;
    this.values.set('energy', Math.floor(this.energy));
    this.values.set('mayOpen', 1);
    this.values.set('mayClose', this.number('gas') === 0 ? 1 : 0);
  }

  protected carryOut(key: string, { operation }: Order, now: number, execute: boolean): Refusal | null {
    if (operation === null) return 'notSupported';
    const on = operation === 'close' || operation === 'latchOn' || operation === 'pulseOn';
    if (key === 'heater') {
      if (execute) this.values.set(key, on ? 1 : 0);
      return null;
    }
    // Closing is released only with gas in the breaker.
    if (on && this.number('mayClose') === 0) return 'blocked';
    if (!execute) return null;
    this.values.set('breaker', MOVING);
    this.values.set('switch', MOVING);
    this.values.set('operations', this.number('operations') + 1);
    this.target = on ? CLOSED : OPEN;
    this.nextMove = now + MOVES_IN_MS;
    return null;
  }
}

/** The park follows the sun, up to the power that it may feed in. */
export class ParkController extends Modelled {
  readonly product = 'Plant controller, simulated';
  private energy = 912_404;

  constructor(now: number, random: () => number) {
    super(PARK_POINTS, now, random);
    for (const [key, value] of Object.entries({ limit: 12, run: 1, ready: 1 })) this.values.set(key, value);
    this.live(now, 0);
  }

  protected live(now: number, seconds: number): void {
    // A day of half an hour: somebody wants to see it.
    const sun = Math.max(60, 850 * Math.sin(((now % 1_800_000) / 1_800_000) * Math.PI));
    const possible = (sun / 1000) * 14;
    const most = this.number('run') === 1 ? this.number('limit') : 0;
    const power = this.noisy(Math.min(possible, most), 0.01);
    this.values.set('sun', this.noisy(sun, 2));
    this.values.set('power', power);
    this.values.set('reactive', this.noisy(0.4, 0.01));
    this.values.set('frequency', this.noisy(50, 0.02));
    this.values.set('curtailed', possible > most ? 1 : 0);
    this.energy += (power * 1000 * seconds) / 3600;
    this.values.set('energy', Math.floor(this.energy));
  }

  protected carryOut(key: string, { operation, counts }: Order, _now: number, execute: boolean): Refusal | null {
    const value = counts ?? (operation === 'latchOn' || operation === 'close' ? 1 : 0);
    if (execute) this.values.set(key, value);
    return null;
  }
}
