import { concat, sameBytes } from '../../../bytes/index.ts';
import { MAX_USER_DATA, positionInFrame, userDataIn } from './link.ts';

const FIN = 0x80;
const FIR = 0x40;
const SEQUENCE = 0x3f;
export const MAX_SEGMENT = MAX_USER_DATA - 1;

/**
 * Cuts a fragment into transport segments (IEEE 1815, clause 8.2).
 *
 *   header   1       FIN, FIR, sequence (6 bits)
 *   part     1…249
 */
export function segment(fragment: Uint8Array, firstSequence: number): Uint8Array[] {
  const segments: Uint8Array[] = [];
  for (let at = 0, sequence = firstSequence; at < fragment.length; at += MAX_SEGMENT, sequence++) {
    const part = fragment.subarray(at, at + MAX_SEGMENT);
    const whole = new Uint8Array(part.length + 1);
    whole[0] = (at + MAX_SEGMENT >= fragment.length ? FIN : 0) | (at === 0 ? FIR : 0) | (sequence & SEQUENCE);
    whole.set(part, 1);
    segments.push(whole);
  }
  return segments;
}

/** What the fragment is whose first segment this is; null: the segment goes on with one. */
export function fragmentStart(data: Uint8Array): { sequence: number; functionCode: number } | null {
  return data.length >= 3 && data[0] & FIR ? { sequence: data[1] & 0x0f, functionCode: data[2] } : null;
}

export interface Reassembled {
  fragment: Uint8Array;
  /** The link frames that carried it, as received. */
  frames: Uint8Array[];
}

export type TransportProblem =
  'emptySegment' | 'unexpectedSegment' | 'sequenceBroken' | 'fragmentTooLong' | 'fragmentUnfinished';

/**
 * Joins segments to fragments: FIR begins anew, each next one counts up by one, a repeated one is passed over, and a
 * fragment longer than `maxFragment` octets is dropped whole (IEEE 1815, clause 8.2.2).
 */
export class Reassembler {
  private parts: Uint8Array[] = [];
  private frames: Uint8Array[] = [];
  private octets = 0;
  private expected = 0;
  private last: Uint8Array | null = null;

  constructor(readonly maxFragment: number) {}

  reset(): void {
    if (this.last === null) return;
    this.parts = [];
    this.frames = [];
    this.octets = 0;
    this.last = null;
  }

  push(data: Uint8Array, frame: Uint8Array): { done: Reassembled | null; problem: TransportProblem | null } {
    if (data.length < 2) return { done: null, problem: 'emptySegment' };
    const header = data[0];
    let problem: TransportProblem | null = null;
    if (header & FIR) {
      if (this.last !== null) problem = 'fragmentUnfinished';
      this.reset();
    } else if (this.last === null) {
      return { done: null, problem: 'unexpectedSegment' };
    } else if (sameBytes(data, this.last)) {
      return { done: null, problem: null };
    } else if ((header & SEQUENCE) !== this.expected) {
      this.reset();
      return { done: null, problem: 'sequenceBroken' };
    }
    // Nearly always a fragment is one segment.
    if (this.last === null && header & FIN && data.length - 1 <= this.maxFragment)
      return { done: { fragment: data.subarray(1), frames: [frame] }, problem };
    const octets = this.octets + data.length - 1;
    if (octets > this.maxFragment) {
      this.reset();
      return { done: null, problem: 'fragmentTooLong' };
    }
    this.octets = octets;
    this.parts.push(data.subarray(1));
    this.frames.push(frame);
    this.last = data;
    this.expected = (header + 1) & SEQUENCE;
    if (!(header & FIN)) return { done: null, problem };
    const done = { fragment: concat(this.parts), frames: this.frames };
    this.reset();
    return { done, problem };
  }
}

/** The part of a fragment in a link frame that carries one. */
export const partIn = (frame: Uint8Array): Uint8Array => userDataIn(frame).subarray(1);

/**
 * Where `length` octets of a fragment, from `offset` on, stand in the frames that carried it: for each frame touched
 * its number and the positions in it.
 */
export function positionsInFrames(offset: number, length: number): { frame: number; position: number }[] {
  return Array.from({ length }, (_, i) => {
    const index = offset + i;
    return { frame: Math.floor(index / MAX_SEGMENT), position: positionInFrame((index % MAX_SEGMENT) + 1) };
  });
}
