/*
 * What a broker says why. Codes and their meaning: MQTT 3.1.1, 3.2.2.3 (return codes of CONNACK); MQTT 5.0, 2.4 and the
 * tables of each packet. The words, and what to look at, are ours.
 */

/** Return codes of CONNACK in 3.1.1. */
const RETURN_CODES: Readonly<Record<number, string>> = {
  1: 'it does not speak this version of MQTT',
  2: 'it does not take this client id',
  3: 'it is not ready for clients',
  4: 'user or password is wrong',
  5: 'this client is not allowed in: are user and password right?',
};

/** Reason codes of 5. */
const REASON_CODES: Readonly<Record<number, string>> = {
  0x04: 'it is to publish our last words',
  0x10: 'nobody has subscribed to it',
  0x80: 'it gives no reason',
  0x81: 'it could not read a packet of ours',
  0x82: 'a packet of ours is against the protocol',
  0x83: 'a reason of its own',
  0x84: 'it does not speak this version of MQTT',
  0x85: 'it does not take this client id',
  0x86: 'user or password is wrong',
  0x87: 'that is not allowed',
  0x88: 'it is not there',
  0x89: 'it is busy',
  0x8a: 'this client is banned',
  0x8b: 'it shuts down',
  0x8c: 'it wants another way of signing in',
  0x8d: 'it has not heard from us for longer than the keep-alive',
  0x8e: 'another client has connected with the same client id',
  0x8f: 'it does not take this topic filter',
  0x90: 'it does not take this topic',
  0x91: 'a packet identifier is in use',
  0x93: 'too much was under way',
  0x94: 'it does not take this topic alias',
  0x95: 'the packet is too long for it',
  0x96: 'it gets too much in too short a time',
  0x97: 'a quota is used up',
  0x98: 'somebody there ended it',
  0x99: 'the content is not what it was said to be',
  0x9a: 'it keeps no retained messages',
  0x9b: 'it does not take this quality of service',
  0x9c: 'another server is to be used for now',
  0x9d: 'another server is to be used',
  0x9e: 'it has no shared subscriptions',
  0x9f: 'there are too many connections',
  0xa0: 'the longest time of a connection is over',
  0xa1: 'it has no subscription identifiers',
  0xa2: 'it has no wildcards in subscriptions',
};

/** Many brokers say no more of a wrong password than this. */
const NOT_ALLOWED = 0x87;
const hex = (code: number): string => `0x${code.toString(16).padStart(2, '0').toUpperCase()}`;

/** Why it did not let us in. */
export const refusalWords = (code: number, version: 4 | 5): string =>
  version === 4
    ? `${RETURN_CODES[code] ?? 'a reason that is not in the standard'} (return code ${code})`
    : code === NOT_ALLOWED
      ? `this client is not allowed in: are user and password right? (${hex(code)})`
      : reasonWords(code);

export const reasonWords = (code: number): string =>
  `${REASON_CODES[code] ?? 'a reason that is not in the standard'} (${hex(code)})`;
