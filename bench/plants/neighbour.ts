import { NORTHMARK_POINTS, type PeerPoint } from '../scenario/tase2.ts';
import type { Order, Plant, Refusal } from '../plant.ts';

const [OPEN, CLOSED] = [1, 2];
const MOVES_IN_MS = 80;

/** The network of a neighbour: a tie line whose flow follows a schedule, and what its centre lets us see. */
export class Neighbour implements Plant<PeerPoint> {
  readonly points = NORTHMARK_POINTS;
  readonly product = 'Northmark network, simulated';
  readonly version = '1';
  readonly forced = new Map<string, number>();
  readonly isLocal = false;
  readonly stormPoints: readonly PeerPoint[] = [];
  clockSynchronised = true;
  nextMove: number | null = null;
  private readonly values = new Map<string, number>();
  private target: number | null = null;
  private energy = 88_204;
  private last: number;

  constructor(
    now: number,
    private readonly random: () => number,
  ) {
    this.last = now;
    for (const [key, value] of Object.entries({ tie: CLOSED, line: 1, alarm: 0, control: 1, schedule: 6 }))
      this.values.set(key, value);
    this.tick(now);
  }

  value(key: string): number | undefined {
    return this.forced.get(key) ?? this.values.get(key);
  }
  private number(key: string): number {
    return this.value(key) ?? 0;
  }
  private noisy(value: number, noise: number): number {
    return Math.round((value + (this.random() - 0.5) * 2 * noise) * 100) / 100;
  }

  tick(now: number): void {
    const seconds = Math.max(0, now - this.last) / 1000;
    this.last = now;
    if (this.target !== null && now >= (this.nextMove ?? 0)) {
      this.values.set('tie', this.target);
      this.values.set('control', this.target === CLOSED ? 1 : 0);
      [this.target, this.nextMove] = [null, null];
    }
    const isClosed = this.number('tie') === CLOSED;
    const power = isClosed ? this.number('schedule') : 0;
    this.values.set('power', isClosed ? this.noisy(power, 0.15) : 0);
    this.values.set('reactive', isClosed ? this.noisy(power * 0.18, 0.05) : 0);
    this.values.set('tension', this.noisy(110.4, 0.05));
    this.values.set('frequency', this.noisy(50, 0.01));
    this.values.set('load', this.noisy(184, 0.6));
    this.values.set('reserve', Math.round(this.noisy(40, 1)));
    this.energy += (Math.abs(power) * seconds) / 3600;
    this.values.set('energy', Math.floor(this.energy));
  }

  operate(key: string, { operation, counts }: Order, now: number, execute: boolean): Refusal | null {
    if (key === 'schedule') {
      if (counts === null || counts < -20 || counts > 20) return 'outOfRange';
      if (execute) this.values.set('schedule', counts);
      return null;
    }
    if (key !== 'control' || operation === null) return 'notSupported';
    if (this.number('alarm') === 1) return 'blocked';
    if (!execute) return null;
    this.target = operation === 'close' || operation === 'latchOn' || operation === 'pulseOn' ? CLOSED : OPEN;
    this.nextMove = now + MOVES_IN_MS;
    return null;
  }
}
