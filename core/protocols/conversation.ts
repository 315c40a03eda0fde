/*
 * Two parties that are client and server of each other in one conversation: one of our two ends has made it (the host),
 * the other one speaks within it (the guest). What the host gets that is not its own it hands on, and what the guest says
 * goes out by it. The engine carries it between the two, and never looks inside.
 */

/** What a guest has to keep to. */
export interface ConversationTerms {
  /** Of a message at most. */
  octets: number;
  /** At the same time. */
  requests: number;
}

/** To a host, of the one guest that it has, or had. */
export type GuestCommand =
  | { type: 'guest'; what: 'comes' }
  | { type: 'guest'; what: 'goes' }
  /** A message of it. */
  | { type: 'guest'; what: 'says'; octets: Uint8Array };

/** To a guest: that the conversation stands, what was said to it, that it is over. */
export type GuestNews =
  | { type: 'guest'; what: 'begins'; terms: ConversationTerms }
  | { type: 'guest'; what: 'hears'; octets: Uint8Array }
  | { type: 'guest'; what: 'ends' };
