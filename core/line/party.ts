import type { Instant } from '../session/index.ts';

/** What a party would do with the line, the most urgent first. */
export const Priority = { control: 0, confirm: 1, events: 2, integrity: 3, background: 4 } as const;
export type Priority = (typeof Priority)[keyof typeof Priority];

/** What a party would do next, and since when it wants to. */
export interface Wish {
  priority: Priority;
  since: Instant;
  words: string;
}

/**
 * Who takes turns on a line: the session of one device. It sends nothing but by `grant`, apart from what belongs to the
 * exchange that it holds the line for.
 */
export interface Party<Command, Effect extends { type: string }, Event> {
  /** Its weight among equals. */
  readonly share: number;
  readonly deadline: Instant | null;
  /** From its request until its answer has come or its time-out has passed. */
  readonly holdsLine: boolean;
  start(now: Instant): void;
  stop(now: Instant): void;
  wake(now: Instant): void;
  command(command: Command, now: Instant): void;
  /** Octets for the line and the rest; an effect `answered` says that its device has. */
  take(): (Effect | { type: 'send'; octets: Uint8Array })[];
  /** Null: nothing now. */
  wants(now: Instant): Wish | null;
  /** The line is its own; what it sends begins to go out at `begins`. */
  grant(now: Instant, begins: Instant): void;
  /** Octets come in while it holds the line: perhaps of its answer. */
  octetsArrive(now: Instant): void;
  /** Whether it comes from the party's device, for the party. */
  owns(event: Event): boolean;
  /** What comes from its device; also what nobody could read, while it holds the line. */
  receiveEvent(event: Event, now: Instant): void;
  /** While it waits for its answer, somebody else sends as if asked. */
  strangerHeard(event: Event): void;
}

/** What a protocol makes of the octets of a line. */
export interface Framing<Event> {
  /** Silence that has to be between frames, milliseconds. */
  readonly gapMs: number;
  /** The line begins anew: nothing of a frame has come. */
  reset(): void;
  push(octets: Uint8Array, now: Instant): Event[];
  /** Whether it is a frame, and no noise or broken frame. */
  isFrame(event: Event): boolean;
}
