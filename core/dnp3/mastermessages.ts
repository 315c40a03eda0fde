import type { DeviceAttribute } from './attributes.ts';
import type { ReceivedFragment } from './endpoint.ts';
import type { MeasuredReading, ReportedCommand } from './measured.ts';
import type { Order, OrderAnswer } from './order.ts';
import type { ControlRequest } from './request.ts';

/** What is said to a master, and what it says. */

export type MasterCommand =
  | { type: 'committed'; token: number }
  | ControlRequest
  | { type: 'pollNow' }
  /** Reads the present value of all points once, for a survey. */
  | { type: 'survey'; id: string }
  | { type: 'order'; id: string; order: Order }
  | { type: 'resetCounters' };

export type ControlStep =
  | { step: 'selectSent' | 'selected' | 'operateSent' | 'operated' }
  /** Sent without asking for an answer: nobody knows what came of it. */
  | { step: 'unanswered' }
  | { step: 'refused'; status: number; words: string }
  | { step: 'expired' | 'failed' | 'unknown'; words: string };

export type MasterEffect =
  | { type: 'send'; octets: Uint8Array }
  /** With a token: confirm is due once these are committed. */
  | {
      type: 'readings';
      readings: MeasuredReading[];
      received: ReceivedFragment;
      token: number | null;
      /** Classes of the read that brought them, as bits: 1, 2 and 4 for the classes 1, 2 and 3. */
      classes: number;
      /** They begin an answer. */
      first: boolean;
      /** The survey that asked for them. */
      survey?: string;
    }
  /** A survey has come to its end; problem: why it has not everything. */
  | { type: 'surveyed'; id: string; problem: string | null; attributes: DeviceAttribute[] }
  /** A complete answer to a read of these classes was taken; of those in `waiting` the device holds more (bits). */
  | { type: 'settled'; classes: number; waiting: number }
  /** What the device still holds is in doubt: events may come again. */
  | { type: 'doubt' }
  | { type: 'communication'; state: 'answering' | 'silent'; words: string }
  | { type: 'answered'; roundTripMs: number }
  /** The device's clock against ours: how much it is ahead, and how sure that is; milliseconds. */
  | { type: 'clock'; offsetMs: number; uncertaintyMs: number }
  /** Octets of a file that have come so far. */
  | { type: 'fileProgress'; id: string; octets: number }
  /** An order has come to its end; problem: why nothing came of it. */
  | { type: 'ordered'; id: string; problem: string | null; answer: OrderAnswer }
  /** Commands that somebody gave the device. */
  | { type: 'commandsReported'; commands: ReportedCommand[] }
  | ({ type: 'control'; id: string } & ControlStep)
  | { type: 'diagnostic'; words: string };
