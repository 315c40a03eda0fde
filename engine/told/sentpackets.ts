import type { Message } from '@halvix/core/protocols';
import { dropOldSent, writeSent, type Database, type SentPacket } from '@halvix/db';
import { clock } from '@halvix/wire';
import { log, reason } from '../log.ts';

const PAUSE_MS = 500;
/** Packets of one outbound that wait to be written: of more, the newest. */
const MOST_WAITING = 1000;
/** And of all their octets. */
const MOST_OCTETS = 16 << 20;
/** Writes of an outbound between two looks for what is beyond the bound. */
const TIDY_EVERY = 20;

/** Writes what went out in packets, for people. It holds nothing up: what cannot be written is forgotten. */
export class SentPackets {
  private readonly waiting = new Map<string, SentPacket>();
  private octets = 0;
  private readonly writes = new Map<number, number>();
  private timer: NodeJS.Timeout | null = null;
  private writing: Promise<void> = Promise.resolve();
  private failing = false;

  constructor(
    private readonly database: Database,
    private readonly run: string,
  ) {}

  out(
    outbound: number,
    { packet, records, messages }: { packet: number; records: number; messages: readonly Message[] },
  ): void {
    const now = clock.now();
    const key = `${outbound} ${packet}`;
    const before = this.waiting.get(key);
    // One of which only the answer to an earlier try waits to be written is not among them.
    if (before !== undefined && before.tries > 0) {
      Object.assign(before, { last: now, tries: before.tries + 1, state: 'under way', words: '' });
      return;
    }
    const octets = messages.reduce((sum, message) => sum + message.octets.length, 0);
    const kept = messages.map(({ to, octets: own }) => ({ to, octets: Buffer.from(own).toString('base64') }));
    this.waiting.set(key, {
      ...{ outbound, packet, first: now, last: now, tries: 1, records, octets },
      ...{ state: 'under way', words: '', messages: kept },
    });
    this.octets += octets;
    for (const [oldest, one] of this.waiting) {
      if (this.waiting.size <= MOST_WAITING && this.octets <= MOST_OCTETS) break;
      this.waiting.delete(oldest);
      this.octets -= one.octets;
    }
    this.soon();
  }

  answered(outbound: number, packet: number, problem: string | null): void {
    const key = `${outbound} ${packet}`;
    const state = problem === null ? 'delivered' : 'refused';
    const words = problem ?? '';
    const before = this.waiting.get(key);
    if (before !== undefined) Object.assign(before, { state, words });
    else {
      const now = clock.now();
      // What is written already stands; only what came of it is new.
      this.waiting.set(key, {
        ...{ outbound, packet, first: now, last: now, tries: 0, records: 0, octets: 0, state, words, messages: [] },
      });
    }
    this.soon();
  }

  private soon(): void {
    this.timer ??= setTimeout(() => void this.flush(), PAUSE_MS);
  }

  /** Writes what waits. */
  flush(): Promise<void> {
    if (this.timer !== null) clearTimeout(this.timer);
    this.timer = null;
    this.writing = this.writing.then(() => this.write());
    return this.writing;
  }

  private async write(): Promise<void> {
    const packets = [...this.waiting.values()];
    this.waiting.clear();
    this.octets = 0;
    if (packets.length === 0) return;
    try {
      await writeSent(this.database, packets, this.run);
      for (const outbound of new Set(packets.map((one) => one.outbound))) {
        const writes = (this.writes.get(outbound) ?? 0) + 1;
        this.writes.set(outbound, writes % TIDY_EVERY);
        if (writes >= TIDY_EVERY) await dropOldSent(this.database, outbound);
      }
      this.failing = false;
    } catch (error) {
      if (!this.failing) log('error', 'what went out in packets cannot be written down', { reason: reason(error) });
      this.failing = true;
    }
  }
}
