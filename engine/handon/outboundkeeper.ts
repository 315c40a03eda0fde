import { concat } from '@halvix/core/bytes';
import { addKept, keptPieces, type Database, type KeptPiece } from '@halvix/db';
import { log, reason } from '../log.ts';

/**
 * Writes what the sessions of outbounds have to remember: what came since the last time as one piece, a few times a
 * second, and everything anew once there are many pieces. While the database is away pieces wait, up to a limit; beyond
 * it everything is written anew once it is back.
 */

const PAUSE_MS = 100;
/** Pieces of an outbound before they are replaced by one. */
const MOST_PIECES = 2000;
const MOST_WAITING = 32 << 20;

interface Kept {
  waiting: Uint8Array[];
  octets: number;
  pieces: number;
  /** What waited was too much: everything is to be written anew. */
  anew: boolean;
  /** All that there is to remember now. */
  all: () => Uint8Array;
}

export class OutboundKeeper {
  private readonly kept = new Map<number, Kept>();
  private timer: NodeJS.Timeout | null = null;
  private writing: Promise<void> = Promise.resolve();
  private failing = false;

  constructor(
    private readonly database: Database,
    private readonly run: string,
  ) {}

  /** What the session of an outbound has kept, before one begins; what waits is written first. */
  async load(outbound: number): Promise<Uint8Array[]> {
    await this.flush();
    return keptPieces(this.database, outbound);
  }

  add(outbound: number, octets: Uint8Array, all: () => Uint8Array, replaces: boolean): void {
    const kept = this.kept.get(outbound) ?? { waiting: [], octets: 0, pieces: 0, anew: false, all };
    this.kept.set(outbound, kept);
    kept.all = all;
    kept.anew ||= replaces;
    kept.waiting.push(octets);
    kept.octets += octets.length;
    if (kept.octets > MOST_WAITING) Object.assign(kept, { waiting: [], octets: 0, anew: true });
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
    const pieces: KeptPiece[] = [];
    const taken: { kept: Kept; waiting: Uint8Array[]; replaces: boolean }[] = [];
    for (const [outbound, kept] of this.kept) {
      const { waiting } = kept;
      if (waiting.length === 0 && !kept.anew) continue;
      const replaces = kept.anew || kept.pieces >= MOST_PIECES;
      pieces.push({ outbound, octets: replaces ? kept.all() : concat(waiting), replaces });
      taken.push({ kept, waiting, replaces });
      Object.assign(kept, { waiting: [], octets: 0, anew: false });
    }
    if (pieces.length === 0) return;
    try {
      await addKept(this.database, pieces, this.run);
      for (const { kept, replaces } of taken) kept.pieces = replaces ? 1 : kept.pieces + 1;
      this.failing = false;
    } catch (error) {
      // In front of what has come meanwhile.
      for (const { kept, waiting, replaces } of taken) {
        kept.waiting.unshift(...waiting);
        kept.octets += waiting.reduce((sum, { length }) => sum + length, 0);
        kept.anew ||= replaces;
      }
      if (!this.failing) log('error', 'what outbounds keep cannot be written; trying on', { reason: reason(error) });
      this.failing = true;
      this.timer ??= setTimeout(() => void this.flush(), PAUSE_AFTER_FAILURE_MS);
    }
  }

  /** Others are in no configuration any more. */
  forgetAllBut(outbounds: readonly number[]): void {
    for (const number of [...this.kept.keys()]) if (!outbounds.includes(number)) this.kept.delete(number);
  }
}

const PAUSE_AFTER_FAILURE_MS = 1000;
