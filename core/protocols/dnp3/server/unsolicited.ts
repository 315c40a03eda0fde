import type { Instant } from '../../../session/index.ts';
import type { CounterSet } from '../counters.ts';
import type { OutstationSettings } from '../settings.ts';
import { encodeFragment, FunctionCode } from '../wire/application.ts';
import { fillFragment, type Want } from './answer.ts';
import type { BufferedEvent, EventBuffer } from './eventbuffer.ts';

/** What its outstation does for it. */
export interface UnsolicitedContext {
  settings: OutstationSettings;
  events: EventBuffer;
  counters: CounterSet;
  indications: () => number;
  send: (octets: Uint8Array, now: Instant) => void;
  reported: (events: BufferedEvent[]) => void;
}

/**
 * What an outstation sends unasked. After a restart that is an empty unsolicited response, repeated until it is confirmed
 * once, over connections too (IEEE 1815, 5.1.1.1.1; from memory); a later connection begins without one. After that, events of the classes that the master has enabled go out, one response at a time. One that is
 * not confirmed is repeated octet for octet; after `unsolicitedRetries` its events wait, and go out anew after a rest,
 * with another sequence number.
 */
export class Unsolicited {
  /** Classes whose events go out unasked (bits). */
  classes = 0;
  private sequence = 0;
  /** The empty first one since the restart is confirmed. */
  private introduced = false;
  private due: Instant | null = null;
  private pending: { octets: Uint8Array; sequence: number; deadline: Instant; tries: number } | null = null;

  constructor(private readonly context: UnsolicitedContext) {}

  /** One waits for its confirm. */
  get isPending(): boolean {
    return this.pending !== null;
  }

  /** `free`: nothing else keeps one from going out when it is due. */
  deadline(free: boolean): Instant | null {
    if (this.pending !== null) return this.pending.deadline;
    return free ? this.due : null;
  }

  start(now: Instant): void {
    if (this.context.settings.unsolicited && !this.introduced) this.send(now);
  }

  /** Begins as after a restart: nothing is enabled. */
  restarted(): void {
    this.forget();
    [this.introduced, this.classes] = [false, 0];
  }

  forget(): void {
    this.due = null;
    if (this.pending !== null) this.context.events.unmark();
    this.pending = null;
  }

  /** Sends what is due; called whenever something has changed and nothing else is under way. */
  consider(now: Instant): void {
    const { settings, events } = this.context;
    if (!settings.unsolicited || !this.introduced || this.pending !== null) return;
    const waiting = ([1, 2, 3] as const).some((n) => this.classes & (1 << (n - 1)) && events.hasWaiting(n));
    if (!waiting) {
      this.due = null;
      return;
    }
    this.due ??= now + settings.unsolicitedDelayMs;
    if (now >= this.due) this.send(now);
  }

  /** Events of the enabled classes, or nothing at all in the first one. */
  private send(now: Instant): void {
    const { settings, events, counters, indications, reported, send } = this.context;
    const wanted = (event: BufferedEvent): boolean => (this.classes & (1 << (event.class - 1))) !== 0;
    const wants: Want[] = this.introduced ? [{ what: 'events', wanted, variation: 0, limit: Infinity }] : [];
    const filled = fillFragment(wants, events, settings.maxFragment - 4);
    const marked = events.markReported(new Set(filled.events));
    const { sequence } = this;
    this.sequence = (sequence + 1) & 0x0f;
    const control = { first: true, final: true, confirm: true, unsolicited: true, sequence };
    const octets = encodeFragment(control, FunctionCode.unsolicitedResponse, indications(), filled.objects);
    this.pending = { octets, sequence, deadline: now + settings.confirmTimeoutMs, tries: 0 };
    this.due = null;
    counters.add('unsolicited');
    send(octets, now);
    if (marked.length > 0) reported(marked);
  }

  /**
   * Looks whether the time for the confirm is over; with `readWaits` the response is given up at once. Returns whether it
   * was given up.
   */
  wake(readWaits: boolean, now: Instant): boolean {
    const { pending } = this;
    if (pending === null || now < pending.deadline) return false;
    const { settings, counters, events, send } = this.context;
    counters.add('timeouts');
    if (!readWaits && (pending.tries < settings.unsolicitedRetries || !this.introduced)) {
      pending.tries++;
      // The empty first one is repeated for ever, ever more rarely than not at all.
      const rest = pending.tries > settings.unsolicitedRetries;
      pending.deadline = now + (rest ? settings.unsolicitedRestMs : settings.confirmTimeoutMs);
      counters.add('retries');
      send(pending.octets, now);
      return false;
    }
    this.pending = null;
    events.unmark();
    this.due = now + settings.unsolicitedRestMs;
    return true;
  }

  /** Returns whether it is the confirm that was waited for. */
  confirmed(sequence: number): boolean {
    if (this.pending?.sequence !== sequence) return false;
    this.pending = null;
    this.introduced = true;
    return true;
  }
}
