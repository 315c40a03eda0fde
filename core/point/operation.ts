/** What a control can be asked to do, in the same words for every protocol. */
export const OPERATIONS = ['latchOn', 'latchOff', 'pulseOn', 'pulseOff', 'close', 'trip'] as const;
export type Operation = (typeof OPERATIONS)[number];

export const OPERATION_WORDS: Record<Operation, string> = {
  latchOn: 'latch on',
  latchOff: 'latch off',
  pulseOn: 'pulse on',
  pulseOff: 'pulse off',
  close: 'close',
  trip: 'trip',
};

/** Operations that switch something on; the others switch it off. */
export const switchesOn = (operation: Operation): boolean =>
  operation === 'latchOn' || operation === 'pulseOn' || operation === 'close';

/** The state that an operation leads to where its words leave no doubt; of a pulse nobody knows. */
export const stateAfter = (operation: Operation): 0 | 1 | null =>
  operation === 'pulseOn' || operation === 'pulseOff' ? null : switchesOn(operation) ? 1 : 0;

/** The operation that somebody wrote: `trip`, `latch on`, `latchOn`. */
export const operationOf = (text: string): Operation | undefined =>
  OPERATIONS.find((one) => OPERATION_WORDS[one] === text.trim().toLowerCase() || one === text.trim());
