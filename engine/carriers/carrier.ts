import type { Message } from '@halvix/core/protocols';

/**
 * Takes packets to a destination by way of a library that owns the conversation. One packet at a time; a packet that was
 * not carried comes again, the same to the last octet, also after the engine has ended in the middle of it.
 */
export interface Carrier {
  /** Where it leads, as people say it. */
  readonly where: string;
  /** Resolves once the destination has the packet and says so; rejects with an error whose message says why not. */
  carry(messages: readonly Message[]): Promise<void>;
  /** It is not used any more. */
  close(): Promise<void>;
}
