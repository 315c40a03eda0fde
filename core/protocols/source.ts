import type { Instant } from '../session/index.ts';
import type { ClientPoint } from './client.ts';
import type { Carrying, Measured } from './measured.ts';

/* Points that come over no wire: from what is known here anyway. `Place` is a point's place. */

/** How a conversation with somebody stands. */
export interface Party {
  /** Null: not known yet. */
  failed: boolean | null;
  since: Instant;
}

/** How all conversations stand; null: there is no such one, or nobody holds it. */
export interface Standing {
  device(code: string): Party | null;
  outbound(code: string): Party | null;
  /** Whether one point can be had from its device. */
  point(device: string, address: string): Party | null;
}

/** The session of a device that has no link. */
export interface Source {
  /** What is new since the last look; at the first all is. */
  look(standing: Standing, now: Instant): Measured[];
}

/** What a protocol without a link has for its sessions. */
export interface SourceSide<Place> {
  make(points: readonly ClientPoint<Place>[]): Source;
  /** What carries its readings, for their trail. */
  carrying: Carrying;
}
