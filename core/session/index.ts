/** Milliseconds since 1970 UTC. */
export type Instant = number;

/**
 * A protocol conversation as a state machine without sockets and clocks. The owner of the transport feeds it octets
 * and time, and after every call carries out what `take` returns, in order.
 */
export interface Session<Command, Effect> {
  /** The link is up: begin. */
  start(now: Instant): void;
  /** The link is gone. */
  stop(now: Instant): void;
  /** Octets from the link, in any chunking. */
  receive(bytes: Uint8Array, now: Instant): void;
  command(command: Command, now: Instant): void;
  /** A deadline has passed. */
  wake(now: Instant): void;
  /** When to be woken next; null: not at all. */
  readonly deadline: Instant | null;
  /** It times silences on a line: it gets fractions of milliseconds, and is woken exactly. Others get whole ones. */
  readonly isFine?: boolean;
  /** What the owner has to do, oldest first; empties the list. */
  take(): Effect[];
}

/** A result that a person or a peer can cause to fail. Exceptions are for bugs. */
export type Result<Value, Problem> = { ok: true; value: Value } | { ok: false; problem: Problem };
