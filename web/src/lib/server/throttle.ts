const FIRST_PAUSE_MS = 1000;
const LONGEST_PAUSE_MS = 60_000;
const FORGET_AFTER_MS = 15 * 60_000;
const MAX_KEPT = 10_000;

/** Slows down guessing: after a few failures under one key each further one doubles the pause until the next try. */
export class Throttle {
  private readonly failures = new Map<string, { count: number; last: number }>();

  /** `freeTries`: so many failures cost nothing. */
  constructor(private readonly freeTries: number) {}

  /** Milliseconds until the next try; 0: now. */
  pauseFor(key: string, now: number): number {
    const known = this.failures.get(key);
    if (known === undefined) return 0;
    if (now - known.last > FORGET_AFTER_MS) {
      this.failures.delete(key);
      return 0;
    }
    if (known.count < this.freeTries) return 0;
    const pause = Math.min(LONGEST_PAUSE_MS, FIRST_PAUSE_MS * 2 ** (known.count - this.freeTries));
    return Math.max(0, known.last + pause - now);
  }

  fail(key: string, now: number): void {
    const count = (this.failures.get(key)?.count ?? 0) + 1;
    // Put last: the first one in the map is the oldest.
    this.failures.delete(key);
    this.failures.set(key, { count, last: now });
    while (this.failures.size > MAX_KEPT) {
      const [oldest] = this.failures.keys();
      this.failures.delete(oldest);
    }
  }

  /** A try that was counted beforehand was none of those that fail. */
  forgive(key: string): void {
    const known = this.failures.get(key);
    if (known === undefined) return;
    if (known.count <= 1) this.failures.delete(key);
    else known.count--;
  }

  succeed(key: string): void {
    this.failures.delete(key);
  }
}

/** At once, and then one more each 40 s: in no hour more than a hundred. */
const AT_ONCE = 10;
const ONE_EACH_MS = 40_000;

/** How many guesses of one account are looked at, from wherever they come. */
export class Guesses {
  private readonly spent = new Map<string, { tries: number; since: number }>();

  /** Milliseconds until one more is looked at; 0: now. */
  pauseFor(name: string, now: number): number {
    const tries = this.triesOf(name, now);
    return tries + 1 <= AT_ONCE ? 0 : Math.ceil((tries + 1 - AT_ONCE) * ONE_EACH_MS);
  }

  /** What of the past tries still counts: one less each `ONE_EACH_MS`. */
  private triesOf(name: string, now: number): number {
    const known = this.spent.get(name);
    return known === undefined ? 0 : Math.max(0, known.tries - (now - known.since) / ONE_EACH_MS);
  }

  fail(name: string, now: number): void {
    const tries = this.triesOf(name, now) + 1;
    this.spent.delete(name);
    this.spent.set(name, { tries, since: now });
    while (this.spent.size > MAX_KEPT) {
      const [oldest] = this.spent.keys();
      this.spent.delete(oldest);
    }
  }

  /** A try that was counted beforehand was right. */
  forgive(name: string, now: number): void {
    const tries = this.triesOf(name, now) - 1;
    if (tries <= 0) this.spent.delete(name);
    else this.spent.set(name, { tries, since: now });
  }
}

export interface Trying {
  name: string;
  address: string;
  /** The hash of the token of a browser in which this account signed in before; null: it is none. */
  device: string | null;
}

/**
 * Whether somebody may try now.
 *
 * Rules:
 * 1. A browser in which the account signed in before has tries of its own: nobody elsewhere can use them up.
 * 2. Of others, a name from an address has four tries, then growing pauses: neither keeps another name from there waiting,
 *    nor the same name from elsewhere.
 * 3. An address has sixty, whatever the names: more is no building with many people in it.
 * 4. Of one account no more than a hundred guesses an hour are looked at, wherever they come from.
 */
export class Doors {
  private readonly own = new Throttle(4);
  private readonly addresses = new Throttle(60);
  private readonly devices = new Throttle(10);
  private readonly guesses = new Guesses();

  pauseFor({ name, address, device }: Trying, now: number): number {
    if (device !== null && this.devices.pauseFor(device, now) === 0) return 0;
    return Math.max(
      this.own.pauseFor(`${name} from ${address}`, now),
      this.addresses.pauseFor(address, now),
      this.guesses.pauseFor(name, now),
    );
  }

  /** Counted before the answer is known, so that tries side by side count too. */
  tries({ name, address, device }: Trying, now: number): void {
    if (device !== null) this.devices.fail(device, now);
    if (device !== null && this.devices.pauseFor(device, now) === 0) return;
    this.own.fail(`${name} from ${address}`, now);
    this.addresses.fail(address, now);
    this.guesses.fail(name, now);
  }

  succeeds({ name, address, device }: Trying, now: number): void {
    if (device !== null) this.devices.succeed(device);
    this.own.succeed(`${name} from ${address}`);
    // Not forgotten: a right password of one's own does not make guessing others' cheaper.
    if (device === null) this.addresses.forgive(address);
    if (device === null) this.guesses.forgive(name, now);
  }
}
