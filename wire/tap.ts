import type { Instant } from '@halvix/core/session';
import { clock } from './clock.ts';

/** Octets as they went over a link. */
export interface Tapped {
  /** Code of the link. */
  link: string;
  /** Who is at the other end of the connection: `192.0.2.7:20000`, `/dev/ttyS0`. */
  peer: string;
  direction: 'in' | 'out';
  at: Instant;
  /** Whoever keeps them copies them. With TLS: what it carries. */
  octets: Uint8Array;
}

/**
 * Through which all octets of all transports go that belong to a link. It costs nothing while nobody listens, and whoever
 * listens is in nobody's way: what it throws is its own affair.
 */
export class Tap {
  private readonly listeners = new Set<(tapped: Tapped) => void>();

  /** Returns what ends it. */
  listen(listener: (tapped: Tapped) => void): () => void {
    this.listeners.add(listener);
    return () => void this.listeners.delete(listener);
  }

  /** `link`: undefined, empty: it belongs to none. */
  pass(link: string | undefined, peer: string, direction: Tapped['direction'], octets: Uint8Array): void {
    if (this.listeners.size === 0 || !link) return;
    const tapped = { link, peer, direction, at: clock.now(), octets };
    for (const listener of this.listeners)
      try {
        listener(tapped);
      } catch {
        this.failures++;
      }
  }

  /** How often a listener threw. */
  failures = 0;
}

export const tap = new Tap();
