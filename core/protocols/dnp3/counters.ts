import { Counters } from '../counterset.ts';

/** What a DNP3 session counts, each in words. All of them count since `CounterSet.since`. */
export const COUNTER_WORDS = {
  requests: 'requests',
  responses: 'responses',
  timeouts: 'time-outs',
  retries: 'retries',
  confirmsSent: 'confirms sent',
  confirmsReceived: 'confirms received',
  events: 'events',
  framesSent: 'frames sent',
  framesReceived: 'frames received',
  octetsSent: 'octets sent',
  octetsReceived: 'octets received',
  noiseOctets: 'octets of garbage',
  headerChecksums: 'wrong header checksums',
  bodyChecksums: 'wrong data checksums',
  otherDestination: 'frames for another address',
  otherSource: 'frames from another address',
  wrongDirection: 'frames in the wrong direction',
  transportErrors: 'transport sequence errors',
  overlongFragments: 'over-long fragments',
  malformedFragments: 'malformed fragments',
  unexpectedFragments: 'fragments not asked for',
  unsupported: 'requests not supported',
  eventsDropped: 'events dropped, buffer full',
  repeatedRequests: 'repeated requests',
  unsolicited: 'unsolicited responses',
  linkRetries: 'link frames sent again',
  linkFailures: 'link frames never acknowledged',
} as const;

/** What says that something is wrong. */
export const TROUBLE = [
  'timeouts',
  'retries',
  'noiseOctets',
  'headerChecksums',
  'bodyChecksums',
  'otherDestination',
  'otherSource',
  'wrongDirection',
  'transportErrors',
  'overlongFragments',
  'malformedFragments',
  'unexpectedFragments',
  'unsupported',
  'eventsDropped',
  'repeatedRequests',
] as const satisfies readonly (keyof typeof COUNTER_WORDS)[];

export type CounterName = keyof typeof COUNTER_WORDS;

export class CounterSet extends Counters<CounterName> {
  constructor(since: number) {
    super(Object.keys(COUNTER_WORDS) as CounterName[], since);
  }
}
