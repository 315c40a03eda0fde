import type { Instant } from '../session/index.ts';
import type { ClientPoint } from './client.ts';
import type { Carrying, Measured } from './measured.ts';

/* Points that come over no wire: from what is known here anyway. `Place` is a point's place. */

/** How a conversation with somebody stands. */
export interface Contact {
  /** Null: not known yet. */
  failed: boolean | null;
  since: Instant;
}

/** How all conversations stand; null: there is no such one, or nobody holds it. */
export interface Contacts {
  device(code: string): Contact | null;
  outbound(code: string): Contact | null;
  /** Whether one point can be had from its device. */
  point(device: string, address: string): Contact | null;
}

/** The session of a device that has no link. */
export interface Source {
  /** What is new since the last look; at the first all is. */
  look(standing: Contacts, now: Instant): Measured[];
}

/** What a protocol without a link has for its sessions. */
export interface SourceSide<Place> {
  make(points: readonly ClientPoint<Place>[]): Source;
  /** What carries its readings, for their trail. */
  carrying: Carrying;
}
