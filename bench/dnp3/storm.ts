import { clock } from '@halvix/wire';

const STORM_TICK_MS = 10;

/** Makes so many events a second, evenly. */
export class Storm {
  private running: { timer: NodeJS.Timeout; began: number; perSecond: number; made: number } | null = null;

  constructor(
    /** Makes the event of that number; how many may be made at once. */
    private readonly make: (number: number) => void,
    private readonly most: number,
  ) {}

  set(perSecond: number): void {
    if (this.running !== null) clearInterval(this.running.timer);
    this.running = null;
    if (perSecond === 0) return;
    const timer = setInterval(() => this.tick(), STORM_TICK_MS);
    this.running = { timer, began: clock.now(), perSecond, made: 0 };
  }

  private tick(): void {
    const { running } = this;
    if (running === null) return;
    const owed = Math.floor(((clock.now() - running.began) * running.perSecond) / 1000) - running.made;
    for (let i = 0; i < Math.min(owed, this.most); i++) this.make(running.made++);
  }
}
