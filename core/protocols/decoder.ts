import type { Instant } from '../session/index.ts';

/* Octets of a conversation as messages in words, whoever speaks it: for those who look at the wire. */

/** Who has sent them: whoever asks in that protocol (master, client), or whoever is asked. */
export type Speaker = 'asking' | 'asked';

/** What was said in one piece. */
export interface Message {
  side: Speaker;
  at: Instant;
  /** What it says: `response 3: g32v3 × 2`. */
  words: string;
  /** It could not be understood, or only in part. */
  isOdd: boolean;
  /** As they were on the wire; of several frames one behind the other. */
  octets: Uint8Array;
  /** What it carries, a row each: what it is, and its value. */
  parts: readonly (readonly [what: string, value: string])[];
}

/** Makes messages of the octets of one conversation, in whatever pieces they come. Never throws. */
export interface Decoder {
  push(octets: Uint8Array, side: Speaker, at: Instant): Message[];
}

/** What a protocol has for those who look at its octets. */
export interface DecoderSide {
  /** `framing`: of the link, where there is a choice. */
  make(framing: string): Decoder;
}
