import type { OwedEvent } from '@halvix/db';

/**
 * What is to be committed together with readings. Readings are put on the exchange before they are stored, and whoever
 * listens there makes events of them: those are gathered meanwhile, and stored in the same transaction. An event that
 * comes at another time (a period is over, a command was given) is stored by itself, with whatever comes in the same
 * moment.
 */
export class Contributions {
  private gathering: OwedEvent[] | null = null;
  private alone: OwedEvent[] = [];

  constructor(
    /** Stores what comes with no readings. */
    private readonly store: (owed: OwedEvent[]) => void,
  ) {}

  /** An outbound owes something from now on. */
  add(event: OwedEvent): void {
    if (this.gathering !== null) {
      this.gathering.push(event);
      return;
    }
    this.alone.push(event);
    if (this.alone.length === 1)
      queueMicrotask(() => {
        const { alone } = this;
        this.alone = [];
        this.store(alone);
      });
  }

  /** What is owed because of what `work` does. */
  during(work: () => void): OwedEvent[] {
    if (this.gathering !== null) throw new Error('contributions are gathered already');
    const gathered: OwedEvent[] = (this.gathering = []);
    try {
      work();
    } finally {
      this.gathering = null;
    }
    return gathered;
  }
}
