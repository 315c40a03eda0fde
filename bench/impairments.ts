import { clock, exactly } from '@halvix/wire';
import { z } from 'zod';

/** What can be wrong with a link, each by itself; all zero or off: nothing is. */
export const impairmentsSchema = z.object({
  /** Milliseconds each way, and how much more by chance. */
  latencyMs: z.number().int().min(0).max(60_000).default(0),
  jitterMs: z.number().int().min(0).max(60_000).default(0),
  /** Octets go one after the other; 0: as fast as they come. Bits a second, 10 or 11 bits an octet. */
  bitRate: z.number().int().min(0).max(10_000_000).default(0),
  bitsPerOctet: z.number().int().min(9).max(12).default(10),
  /** Octets that get lost, and that arrive with a bit turned over, of a million. */
  lostPerMillion: z.number().int().min(0).max(1_000_000).default(0),
  flippedPerMillion: z.number().int().min(0).max(1_000_000).default(0),
  /** Transmissions that do not arrive, of a hundred. */
  droppedPercent: z.number().min(0).max(100).default(0),
  /** Nothing arrives, and nobody hangs up. */
  silence: z.boolean().default(false),
  /** The connection is cut so often; 0: never. */
  cutEveryMs: z.number().int().min(0).max(86_400_000).default(0),
  /** Away for `outageForMs` once in `outageEveryMs`; 0: never. */
  outageEveryMs: z.number().int().min(0).max(86_400_000).default(0),
  outageForMs: z.number().int().min(0).max(86_400_000).default(0),
});
export type Impairments = z.infer<typeof impairmentsSchema>;
export const NO_IMPAIRMENTS: Impairments = impairmentsSchema.parse({});

/** Pieces in which octets arrive on a slow line. */
const PIECE = 32;

/**
 * The way of octets over one link with what is wrong with it. Both directions share the line when it is half duplex.
 * Time and chance come from outside.
 */
export class ImpairedWire {
  settings: Impairments = NO_IMPAIRMENTS;
  private readonly free = { toDevice: 0, toMaster: 0 };
  private readonly waits = new Set<() => void>();
  private began: number;
  readonly counts = { lost: 0, flipped: 0, dropped: 0, passed: 0 };

  constructor(
    private readonly now: () => number,
    private readonly random: () => number,
    private readonly halfDuplex: boolean,
  ) {
    this.began = now();
  }

  set(settings: Impairments): void {
    this.settings = settings;
    this.began = this.now();
  }

  /** Whether the link is away by its schedule. */
  get isOut(): boolean {
    const { outageEveryMs, outageForMs } = this.settings;
    return outageEveryMs > 0 && (this.now() - this.began) % outageEveryMs >= outageEveryMs - outageForMs;
  }

  /** Forgets what is under way: the connection is gone. */
  clear(): void {
    for (const end of this.waits) end();
    this.waits.clear();
    this.free.toDevice = this.free.toMaster = 0;
  }

  send(octets: Uint8Array, towards: 'toDevice' | 'toMaster', deliver: (octets: Uint8Array) => void): void {
    const { latencyMs, jitterMs, bitRate, bitsPerOctet, droppedPercent, silence } = this.settings;
    if (silence || this.isOut || this.random() * 100 < droppedPercent) {
      this.counts.dropped++;
      return;
    }
    this.counts.passed += octets.length;
    const arrived = this.damage(octets);
    if (latencyMs + jitterMs + bitRate === 0) {
      if (arrived.length > 0) deliver(arrived);
      return;
    }
    const octetMs = bitRate > 0 ? (1000 * bitsPerOctet) / bitRate : 0;
    const lane = this.halfDuplex ? 'toDevice' : towards;
    const now = this.now();
    let at = Math.max(now + latencyMs + this.random() * jitterMs, this.free[lane]);
    for (let from = 0; from < arrived.length; from += octetMs > 0 ? PIECE : arrived.length) {
      const piece = arrived.subarray(from, octetMs > 0 ? from + PIECE : undefined);
      at += piece.length * octetMs;
      this.later(at - now, () => deliver(piece));
    }
    this.free[lane] = at;
  }

  private damage(octets: Uint8Array): Uint8Array {
    const { lostPerMillion, flippedPerMillion } = this.settings;
    if (lostPerMillion + flippedPerMillion === 0) return octets;
    const out: number[] = [];
    for (const octet of octets) {
      if (this.random() * 1e6 < lostPerMillion) {
        this.counts.lost++;
        continue;
      }
      const flip = this.random() * 1e6 < flippedPerMillion;
      if (flip) this.counts.flipped++;
      out.push(flip ? octet ^ (1 << Math.floor(this.random() * 8)) : octet);
    }
    return Uint8Array.from(out);
  }

  /** To a fraction of a millisecond: a character of a line is not much more. */
  private later(ms: number, run: () => void): void {
    let end = (): void => {};
    end = exactly(clock.fine() + ms, () => {
      this.waits.delete(end);
      run();
    });
    this.waits.add(end);
  }
}
