import type { Operation, PointKind } from '@halvix/core/point';

/** A point of a plant, whatever speaks for it. */
export interface PlantPoint {
  /** By which its plant knows it. */
  key: string;
  kind: PointKind;
  name: string;
  unit: string;
  /** Turns the counts of the plant into its unit. */
  gain: number;
}

/** A value of the plant's own making, older than now: a sample that it took while it slept. */
export interface Sample {
  key: string;
  value: number;
  time: number;
}

/** What an output is to do, or (`counts`) what a setpoint is to be. */
export interface Order {
  operation: Operation | null;
  counts: number | null;
  /** What a text is to say. */
  text?: string;
  onMs: number;
  offMs: number;
  count: number;
}

/** Why an order is not carried out. */
export type Refusal = 'local' | 'notSupported' | 'outOfRange' | 'blocked';

export interface PlantFile {
  name: string;
  content: Uint8Array;
  /** When it was made, ms. */
  time: number;
}

/**
 * What a simulated device does, whatever it speaks: values alive in time, and what orders bring about. Values are counts
 * as a device has them on its wire; a text is a text.
 */
export interface Plant<Point extends PlantPoint = PlantPoint> {
  readonly points: readonly Point[];
  /** What it is, by its own words. */
  readonly product: string;
  readonly version: string;
  /** Values that somebody forces. */
  readonly forced: Map<string, number>;
  value(key: string): number | string | undefined;
  tick(now: number): void;
  /** When something is going to happen before the next tick; null: nothing. */
  readonly nextMove: number | null;
  /** Whether its panel alone moves anything. */
  readonly isLocal: boolean;
  /** Carries an order out, unless it is only asked whether it would (`execute` false), or says why not. */
  operate(key: string, order: Order, now: number, execute: boolean): Refusal | null;
  /** Whether a time was given to it since it had power; of a plant without a clock nothing comes of it. */
  clockSynchronised: boolean;
  /** These counters begin at zero. */
  clearCounters?(keys: readonly string[]): void;
  /** The files that it has to give, as a new list whenever they change. */
  readonly files?: readonly PlantFile[];
  deleteFile?(name: string): void;
  /** The samples taken since the last call, oldest first; what is sampled is told by its samples alone. */
  takeSamples?(): Sample[];
  /** Points whose values a storm of events makes up. */
  readonly stormPoints: readonly PlantPoint[];
}

/** The key of a plant whose points are numbered by kind. */
export const numberedKey = (kind: PointKind, index: number): string => `${kind} ${index}`;

/** Values by key; what has no point has none. */
export class Values {
  private readonly byKey = new Map<string, number | string>();

  constructor(points: readonly PlantPoint[]) {
    for (const { key, kind } of points) this.byKey.set(key, kind === 'text' ? '' : 0);
  }

  get(key: string): number | string | undefined {
    return this.byKey.get(key);
  }

  set(key: string, value: number | string): void {
    if (this.byKey.has(key)) this.byKey.set(key, value);
  }
}
