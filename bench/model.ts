import type { ControlBlock, Setpoint, StoredFile } from '@halvix/core/protocols/dnp3';
import type { PointKind } from '@halvix/core/point';
import type { RelayPoint } from './scenario/feederrelay.ts';

/** An event of a device's own making, older than now: a sample that it took while it slept. */
export interface Sample {
  kind: PointKind;
  index: number;
  value: number;
  time: number;
}

/** What a simulated device does: values alive in time, and what controls bring about. Values are wire counts. */
export interface DeviceModel {
  readonly points: readonly RelayPoint[];
  value(kind: PointKind, index: number): number | undefined;
  tick(now: number): void;
  /** When something is going to happen before the next tick; null: nothing. */
  readonly nextMove: number | null;
  clockSynchronised: boolean;
  /** The input that shows local or remote; null: it has none. */
  readonly remoteSwitch: number | null;
  /** Carries a control out, or says why not. */
  operate(index: number, block: ControlBlock, local: boolean, now: number, execute: boolean): number;
  setTo?(index: number, setpoint: Setpoint, local: boolean, execute: boolean): number;
  /** The counters of these indexes begin at zero. */
  clearCounters?(indexes: readonly number[]): void;
  /** The files that it has to give, as a new list whenever they change. */
  readonly files?: readonly StoredFile[];
  deleteFile?(name: string): void;
  /** What its text points say. */
  text?(index: number): string;
  /** Points whose values a storm of events makes up. */
  readonly stormPoints: readonly { kind: PointKind; index: number }[];
}
