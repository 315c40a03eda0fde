import { Counters } from '../counterset.ts';

/** What a session counts, each in words. */
export const COUNTER_WORDS = {
  associations: 'associations',
  requests: 'requests',
  responses: 'responses',
  errors: 'refused requests',
  timeouts: 'time-outs',
  reports: 'transfer reports',
  reportedValues: 'values reported',
  polledValues: 'values read',
  unusable: 'reports not understood',
  messages: 'messages',
  controls: 'controls',
  refusedClients: 'peers turned away',
  octetsSent: 'octets sent',
  octetsReceived: 'octets received',
  odd: 'messages not expected',
} as const;

/** What says that something is wrong. */
export const TROUBLE = [
  'errors',
  'timeouts',
  'unusable',
  'refusedClients',
  'odd',
] as const satisfies readonly (keyof typeof COUNTER_WORDS)[];

export type CounterName = keyof typeof COUNTER_WORDS;

export class CounterSet extends Counters<CounterName> {
  constructor(since: number) {
    super(Object.keys(COUNTER_WORDS) as CounterName[], since);
  }
}
