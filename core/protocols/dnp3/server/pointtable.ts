import type { PointKind } from '../../../point/index.ts';

/** How an outstation holds and reports one point. */
export interface OutstationPoint {
  kind: PointKind;
  index: number;
  /** Event class; 0: no events, only its present value. */
  class: 0 | 1 | 2 | 3;
  staticVariation: number;
  eventVariation: number;
  /** A change smaller than this makes no event; 0: every change does. */
  deadband: number;
  /** Event class of commands that are given to an output; absent: they are not reported. */
  commandClass?: 0 | 1 | 2 | 3;
}

export interface PointState extends OutstationPoint {
  value: number;
  flags: number;
  time: number;
  /** Value and flags of the last event. */
  reportedValue: number;
  reportedFlags: number;
  /** Of a text. */
  text: string;
  reportedText: string;
  /** The master has written the deadband. */
  deadbandSet: boolean;
}

/** Groups of each kind for present values and for events. */
export const GROUPS: Record<PointKind, { static: number; event: number }> = {
  binary: { static: 1, event: 2 },
  doubleBit: { static: 3, event: 4 },
  output: { static: 10, event: 11 },
  analog: { static: 30, event: 32 },
  counter: { static: 20, event: 22 },
  setpoint: { static: 40, event: 42 },
  frozenCounter: { static: 21, event: 23 },
  text: { static: 110, event: 111 },
};

/** The object that carries a kind, in words: `g30v1`; of a text the group alone, its variation is its length. */
export const objectWords = (kind: PointKind, use: 'static' | 'event', variation: number): string =>
  kind === 'text' ? `g${GROUPS.text[use]}` : `g${GROUPS[kind][use]}v${variation}`;

/** Groups of the events that report commands (g13, g43). */
export const COMMAND_GROUPS: Partial<Record<PointKind, number>> = { output: 13, setpoint: 43 };

export const DEFAULT_VARIATIONS: Record<PointKind, { static: number; event: number }> = {
  binary: { static: 2, event: 2 },
  doubleBit: { static: 2, event: 2 },
  output: { static: 2, event: 2 },
  analog: { static: 1, event: 3 },
  counter: { static: 1, event: 5 },
  setpoint: { static: 1, event: 3 },
  frozenCounter: { static: 1, event: 5 },
  /** The variation of a text is its length. */
  text: { static: 1, event: 1 },
};

/** The points of an outstation by kind, in the order of their indexes. */
export class PointTable {
  private byKind = new Map<PointKind, PointState[]>();
  private byKey = new Map<string, PointState>();

  constructor(
    points: readonly OutstationPoint[],
    private readonly initialFlags: number,
  ) {
    this.replace(points);
  }

  /** Takes over another list; points that stay keep what is known of them. */
  replace(points: readonly OutstationPoint[]): void {
    const before = this.byKey;
    this.byKind = new Map();
    this.byKey = new Map();
    for (const point of [...points].sort((a, b) => a.index - b.index)) {
      const key = `${point.kind} ${point.index}`;
      const known = before.get(key);
      const state: PointState = {
        value: known?.value ?? 0,
        flags: known?.flags ?? this.initialFlags,
        time: known?.time ?? 0,
        reportedValue: known?.reportedValue ?? 0,
        reportedFlags: known?.reportedFlags ?? this.initialFlags,
        text: known?.text ?? '',
        reportedText: known?.reportedText ?? '',
        deadbandSet: false,
        ...point,
      };
      const list = this.byKind.get(point.kind) ?? [];
      list.push(state);
      this.byKind.set(point.kind, list);
      this.byKey.set(key, state);
    }
  }

  get(kind: PointKind, index: number): PointState | undefined {
    return this.byKey.get(`${kind} ${index}`);
  }

  ofKind(kind: PointKind): readonly PointState[] {
    return this.byKind.get(kind) ?? [];
  }
}
