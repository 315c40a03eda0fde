import { CALDMERE_POINTS, type PeerPoint } from '../scenario/tase2.ts';
import type { Order, Plant, Refusal } from '../plant.ts';

const DAY_MS = 86_400_000;

/** A region as the centre that looks after it sees it: load and wind of the day, and the reserve that is offered to it. */
export class Region implements Plant<PeerPoint> {
  readonly points = CALDMERE_POINTS;
  readonly product = 'Caldmere region, simulated';
  readonly version = '1';
  readonly forced = new Map<string, number>();
  readonly isLocal = false;
  readonly stormPoints: readonly PeerPoint[] = [];
  readonly nextMove = null;
  clockSynchronised = true;
  private readonly values = new Map<string, number>(Object.entries({ alert: 0, reserve: 4, taken: 4 }));

  constructor(
    now: number,
    private readonly random: () => number,
  ) {
    this.tick(now);
  }

  value(key: string): number | undefined {
    return this.forced.get(key) ?? this.values.get(key);
  }

  tick(now: number): void {
    const noisy = (value: number, noise: number): number =>
      Math.round((value + (this.random() - 0.5) * 2 * noise) * 100) / 100;
    const day = Math.sin(((now % DAY_MS) / DAY_MS) * 2 * Math.PI);
    this.values.set('frequency', noisy(50, 0.01));
    this.values.set('load', noisy(1480 + 260 * day, 2));
    this.values.set('wind', noisy(310 - 90 * day, 1));
  }

  operate(key: string, { counts }: Order, _now: number, execute: boolean): Refusal | null {
    if (key !== 'reserve') return 'notSupported';
    if (counts === null || counts < 0 || counts > 10) return 'outOfRange';
    if (!execute) return null;
    this.values.set('reserve', counts);
    this.values.set('taken', counts);
    return null;
  }
}
