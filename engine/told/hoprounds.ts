import type { HopKind } from '@halvix/core/path';

/** One place on the way of the readings, with the state that people see. */
export interface Hop {
  kind: HopKind;
  code: string;
  /** What of the state people act on: another text goes out at once. Null: its state goes out each time, changed or not. */
  essence: (() => string) | null;
  state: () => unknown;
}

/** A hop's state to be written: JSON. */
export interface HopDocument {
  kind: HopKind;
  code: string;
  document: string;
}

const ROUND_MS = 1000;
/** Where there are many hops a round takes longer, so that it leaves room for readings. */
const ROUND_PER_HOP_MS = 2;
/** A round goes in parts of so many hops: all of a thousand at once would hold readings up. */
const PART = 100;

/**
 * Which states go out when: what people would miss at once with the next publication, counters and ages in rounds, in
 * which each hop has its turn.
 */
export class HopRounds {
  private readonly written = new TextOfEach();
  private readonly shown = new TextOfEach();
  private next = 0;
  private lastPart = 0;

  /** What is to be written now; nothing of what stands there already. */
  due(hops: readonly Hop[], now: number): HopDocument[] {
    const turns = this.turns(hops.length, now);
    const due: HopDocument[] = [];
    hops.forEach((hop, position) => {
      const { kind, code } = hop;
      const essence = hop.essence?.() ?? null;
      const hasTurn = (position - this.next + hops.length) % hops.length < turns;
      if (!hasTurn && essence !== null && this.shown.get(hop) === essence) return;
      if (essence !== null) this.shown.set(hop, essence);
      const document = JSON.stringify(hop.state());
      if (essence === null || this.written.get(hop) !== document) due.push({ kind, code, document });
    });
    this.next = hops.length === 0 ? 0 : (this.next + turns) % hops.length;
    return due;
  }

  /** They are in the database now. */
  wrote(documents: readonly HopDocument[]): void {
    for (const document of documents) this.written.set(document, document.document);
  }

  /** They may not be in the database: everything goes out again. */
  failed(): void {
    this.shown.clear();
    this.written.clear();
  }

  /** How many hops have their turn now. */
  private turns(hops: number, now: number): number {
    const round = Math.max(ROUND_MS, hops * ROUND_PER_HOP_MS);
    const turns = Math.min(hops, Math.floor((hops * (now - this.lastPart)) / round));
    if (turns < Math.min(hops, PART)) return 0;
    this.lastPart = now;
    return turns;
  }
}

/** A text for each hop; asked for thousands of times a second, so without a key made of kind and code. */
class TextOfEach {
  private readonly kinds = new Map<HopKind, Map<string, string>>();

  get({ kind, code }: Pick<Hop, 'kind' | 'code'>): string | undefined {
    return this.kinds.get(kind)?.get(code);
  }

  set({ kind, code }: Pick<Hop, 'kind' | 'code'>, text: string): void {
    const ofKind = this.kinds.get(kind) ?? new Map<string, string>();
    this.kinds.set(kind, ofKind.set(code, text));
  }

  clear(): void {
    this.kinds.clear();
  }
}
