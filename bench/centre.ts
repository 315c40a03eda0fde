/** A stand-in of a control centre, whatever it speaks, as the bench's control has it. */
export interface CentreStandIn {
  readonly code: string;
  readonly on: boolean;
  power(on: boolean): void;
  report(): object;
  /** The latest of each point. */
  points(): readonly object[];
  /** Events, oldest first. */
  readonly events: readonly object[];
  /** Commands that our outputs were given, as reported to it. */
  readonly commands: readonly object[];
  /** Gives a control, as the body of a request has it; resolves with every step of it, the last one being its end. */
  control(body: unknown): Promise<readonly object[]>;
}
