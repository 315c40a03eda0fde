import { Counters } from '../counterset.ts';

/** What a Modbus session counts, each in words. */
export const COUNTER_WORDS = {
  requests: 'requests',
  responses: 'responses',
  exceptions: 'exceptions',
  timeouts: 'time-outs',
  retries: 'retries',
  writes: 'writes',
  framesSent: 'frames sent',
  framesReceived: 'frames received',
  octetsSent: 'octets sent',
  octetsReceived: 'octets received',
  noiseOctets: 'octets of garbage',
  checksums: 'wrong checksums',
  shortFrames: 'frames of the wrong length',
  otherUnit: 'frames of another unit',
  lateAnswers: 'late answers',
  unexpected: 'answers not asked for',
} as const;

/** What says that something is wrong. */
export const TROUBLE = [
  'exceptions',
  'timeouts',
  'retries',
  'noiseOctets',
  'checksums',
  'shortFrames',
  'otherUnit',
  'lateAnswers',
  'unexpected',
] as const satisfies readonly (keyof typeof COUNTER_WORDS)[];

export type CounterName = keyof typeof COUNTER_WORDS;

export class CounterSet extends Counters<CounterName> {
  constructor(since: number) {
    super(Object.keys(COUNTER_WORDS) as CounterName[], since);
  }
}
