/*
 * What comes in, a share at a time.
 *
 * One connection that sends as fast as it can must not keep the loop from everybody else. So what has come is handed on in
 * slices, and in one turn of the loop all connections together have no more than `TURN_MS`; what is left waits for the next
 * turn, and its connection is held until then, so that the other end feels it.
 *
 * Rules:
 * 1. Whoever has had the least time is next. One that rested begins where the others are: it saves nothing up.
 * 2. A slice is as long as has lately taken about `SLICE_MS`, and never so short that it cuts what a line says in one go.
 * 3. What came before a connection ended is handed on before its end is.
 * 4. Whoever does not take what it is sent is not listened to until it does.
 */

const TURN_MS = 8;
const SLICE_MS = 1;
const [SHORTEST_SLICE, FIRST_SLICE, LONGEST_SLICE] = [256, 1024, 16_384];
/** What cannot be held is dropped beyond this, as a network drops datagrams. */
const MOST_WAITING = 1 << 20;

export interface InflowOptions {
  deliver(octets: Uint8Array): void;
  /** Stops and goes on reading, where that can be done. */
  hold?(on: boolean): void;
  /** Whether it takes what it is sent; absent: always. */
  takes?(): boolean;
  /** They are messages, each whole. */
  whole?: boolean;
}

/** The turns of the loop, which all connections share. */
class Turns {
  private readonly waiting = new Set<Inflow>();
  private scheduled = false;
  /** Spent in this turn. */
  private spentMs = 0;
  /** The time that whoever was next last has had. */
  reached = 0;

  get isOver(): boolean {
    return this.spentMs >= TURN_MS;
  }

  spent(ms: number): void {
    this.spentMs += ms;
    this.schedule();
  }

  add(inflow: Inflow): void {
    this.waiting.add(inflow);
    this.schedule();
  }

  drop(inflow: Inflow): void {
    this.waiting.delete(inflow);
  }

  private schedule(): void {
    if (this.scheduled) return;
    this.scheduled = true;
    setImmediate(this.next);
  }

  private readonly next = (): void => {
    this.scheduled = false;
    this.spentMs = 0;
    while (!this.isOver) {
      let first: Inflow | null = null;
      for (const inflow of this.waiting) if (first === null || inflow.hadMs < first.hadMs) first = inflow;
      if (first === null) return;
      this.reached = Math.max(this.reached, first.hadMs);
      first.go();
    }
    if (this.waiting.size > 0) this.schedule();
  };
}
const turns = new Turns();

/** One connection's octets on their way in. */
export class Inflow {
  private pieces: Uint8Array[] = [];
  private octets = 0;
  private slice = FIRST_SLICE;
  private held = false;
  private ended: (() => void) | null = null;
  private closed = false;
  /** The time that it has had, milliseconds. */
  hadMs = 0;

  constructor(private readonly options: InflowOptions) {}

  push(octets: Uint8Array): void {
    if (this.closed || this.ended !== null) return;
    if (this.octets > MOST_WAITING) return;
    this.pieces.push(octets);
    this.octets += octets.length;
    if (this.pieces.length === 1) this.hadMs = Math.max(this.hadMs, turns.reached);
    while (this.pieces.length > 0 && !turns.isOver && this.takes && !this.held) this.handOn();
    this.settle();
  }

  /** Whoever did not take what it was sent does so again. */
  drained(): void {
    this.settle();
  }

  /** The connection has ended: `then`, after what came before. */
  finish(then: () => void): void {
    if (this.ended !== null) return;
    this.ended = then;
    this.settle();
  }

  /** What has come and what comes is not wanted any more. */
  discard(): void {
    this.closed = true;
    this.pieces = [];
    this.octets = 0;
    this.settle();
  }

  /** One slice: its turn has come. */
  go(): void {
    if (this.pieces.length > 0 && this.takes) this.handOn();
    this.settle();
  }

  private get takes(): boolean {
    return this.ended !== null || (this.options.takes?.() ?? true);
  }

  private handOn(): void {
    const [piece] = this.pieces;
    const length = this.options.whole ? piece.length : Math.min(piece.length, this.slice);
    if (length === piece.length) this.pieces.shift();
    else this.pieces[0] = piece.subarray(length);
    this.octets -= length;
    const began = performance.now();
    this.options.deliver(length === piece.length ? piece : piece.subarray(0, length));
    const took = performance.now() - began;
    this.hadMs += took;
    turns.spent(took);
    if (took > SLICE_MS) this.slice = Math.max(SHORTEST_SLICE, this.slice >> 1);
    else if (length === this.slice && took < SLICE_MS / 4) this.slice = Math.min(LONGEST_SLICE, this.slice << 1);
  }

  private settle(): void {
    const waits = this.pieces.length > 0;
    if (waits && this.takes) turns.add(this);
    else turns.drop(this);
    if (waits !== this.held && !this.closed) {
      this.held = waits;
      this.options.hold?.(waits);
    }
    if (waits || this.ended === null) return;
    const then = this.ended;
    this.ended = () => {};
    this.closed = true;
    then();
  }
}
