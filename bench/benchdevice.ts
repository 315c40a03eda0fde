import type { PointKind } from '@halvix/core/point';
import type { CallingLink, ListeningLink } from './link.ts';

export interface PointReport {
  kind: PointKind;
  index: number;
  name: string;
  value: number;
  text?: string;
  flags?: number;
  time?: number;
}

/** A stand-in of a device as people and tests see it, whatever it speaks. */
export interface BenchDevice {
  readonly code: string;
  readonly link: ListeningLink | CallingLink;
  readonly on: boolean;
  /** When it was asked, newest last. */
  readonly heardAt: readonly number[];
  power(on: boolean): Promise<void>;
  points(): PointReport[];
  hasPoint(kind: PointKind, index: number): boolean;
  force(kind: PointKind, index: number, value: number): void;
  release(kind: PointKind, index: number): void;
  report(): object;
}
