import type { BufferedEvent } from '@halvix/core/protocols/dnp3';
import type { PointKind } from '@halvix/core/point';

/** An event as the device made it, in the order of making. */
export interface LoggedEvent {
  number: number;
  kind: PointKind;
  index: number;
  value: number;
  flags: number;
  time: number;
  /** waiting: not confirmed yet; gone: lost with the power before the master had it. */
  state: 'waiting' | 'delivered' | 'gone';
}

const MAX_LOG = 500_000;

/** All events that a device made, and what became of each: for proof that none was lost and none came twice. */
export class EventLog {
  readonly events: LoggedEvent[] = [];
  /** Events that wait for their confirm, by their number in the event buffer. */
  private readonly undelivered = new Map<number, LoggedEvent>();

  get newest(): number {
    return this.events.at(-1)?.number ?? 0;
  }

  /** The number of the oldest event that waits; null: none does. */
  get oldestWaiting(): number | null {
    const [oldest] = this.undelivered.values();
    return oldest?.number ?? null;
  }

  add({ number: buffered, kind, index, value, flags, time }: BufferedEvent): void {
    const logged: LoggedEvent = { number: this.newest + 1, kind, index, value, flags, time, state: 'waiting' };
    this.undelivered.set(buffered, logged);
    this.events.push(logged);
    if (this.events.length > MAX_LOG) this.events.splice(0, MAX_LOG / 10);
  }

  delivered(events: readonly BufferedEvent[]): void {
    for (const { number } of events) {
      const logged = this.undelivered.get(number);
      if (logged) logged.state = 'delivered';
      this.undelivered.delete(number);
    }
  }

  /** The power is gone, and with it what was not delivered. */
  lose(): void {
    for (const logged of this.undelivered.values()) logged.state = 'gone';
    this.undelivered.clear();
  }
}
