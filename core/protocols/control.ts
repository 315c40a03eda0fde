import type { Operation } from '../point/index.ts';
import type { Instant } from '../session/index.ts';

/** Controls in the same terms for every protocol. */

/** With `directNoAnswer` the device is asked for none. */
export type ControlMode = 'selectOperate' | 'direct' | 'directNoAnswer' | 'selectOnly';

/** What may be operated, set or written. */
export type ControlKind = 'output' | 'setpoint' | 'text';

/** What is wanted of an output: an operation, counts that it is to be set to, or (`text`) what it is to say. */
export interface Demanded {
  /** Null: what was asked for has no name here; `asked` says what it was. */
  operation: Operation | null;
  counts: number | null;
  text?: string;
  /** Of a pulse, milliseconds, and how often. */
  onMs: number;
  offMs: number;
  count: number;
}

/** A control on its way to a device. */
export interface ControlOrder<Place> extends Demanded {
  type: 'control';
  id: string;
  kind: ControlKind;
  at: Place;
  mode: ControlMode;
  expiresAt: Instant;
}

export type ControlStep =
  | { step: 'selectSent' | 'selected' | 'operateSent' | 'operated' }
  /** Sent without asking for an answer: nobody knows what came of it. */
  | { step: 'unanswered' }
  /** `status`: the device's own, in its protocol. */
  | { step: 'refused'; status: number; words: string }
  | { step: 'expired' | 'failed' | 'unknown'; words: string };

/** A control that a centre gives us. */
export interface CentreOrder extends Demanded {
  /** Of the target, as text. */
  address: string;
  kind: ControlKind;
  /** What was asked for, in words, where it has no name here. */
  asked: string;
  /** Of an output, where the centre can say on and off and no more: which. */
  on?: boolean;
}

/**
 * What came of a control, for whoever gave it:
 *
 * - done: the device took it.
 * - refused: the device said no; `status` is its own.
 * - notSupported, outOfRange, notAuthorized, blocked: we did not pass it on.
 * - failed: it did not get there, or nobody knows.
 */
/** Why a device said no, in terms of no protocol; what its protocol cannot say is `other`. */
export type Refusal =
  | 'local'
  | 'interlocked'
  | 'notSelected'
  | 'busy'
  | 'already'
  | 'cancelled'
  | 'notSupported'
  | 'outOfRange'
  | 'notAuthorized'
  | 'lost'
  | 'other';

export interface ControlOutcome {
  result: 'done' | 'refused' | 'notSupported' | 'outOfRange' | 'notAuthorized' | 'blocked' | 'failed';
  /** The device's own, in the protocol that it speaks; null: it said nothing. */
  status: number | null;
  protocol: string | null;
  /** The same for whoever speaks another; absent: it said nothing. */
  refusal?: Refusal;
}
export const outcome = (result: ControlOutcome['result']): ControlOutcome => ({ result, status: null, protocol: null });
