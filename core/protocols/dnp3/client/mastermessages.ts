import type { Instant } from '../../../session/index.ts';
import type { ClientNews } from '../../client.ts';
import type { ControlMode } from '../../control.ts';
import type { DeviceAttribute } from '../attributes.ts';
import type { CarryingFragment, ListedPoint } from './intake/carried.ts';
import type { MeasuredReading, ReportedCommand } from '../wire/measured.ts';
import type { ControlBlock, Setpoint } from '../control.ts';
import type { Order, OrderAnswer } from '../order.ts';

/** What is said to a master, and what it says. */

export const isSelected = (mode: ControlMode): boolean => mode === 'selectOperate' || mode === 'selectOnly';

export interface ControlRequest {
  type: 'control';
  id: string;
  index: number;
  block: Omit<ControlBlock, 'status'>;
  /** An analog output takes this instead of the block. */
  setpoint?: Omit<Setpoint, 'status'>;
  /** What an octet string is to say, instead of the block: it is written at once, without a select. */
  text?: string;
  mode: ControlMode;
  expiresAt: Instant;
}

export type MasterCommand =
  | { type: 'committed'; token: number }
  | ControlRequest
  /** Other values of settings. */
  | { type: 'setSettings'; settings: object }
  | { type: 'pollNow' }
  /** The device's list, with the numbers of its points. */
  | { type: 'setPoints'; points: readonly ListedPoint[] }
  /** Reads the present value of all points once, for a survey. */
  | { type: 'survey'; id: string }
  | { type: 'order'; id: string; order: Order }
  | { type: 'resetCounters' };

export type MasterEffect =
  | { type: 'send'; octets: Uint8Array }
  /**
   * Events that were not stored before, and present values. With a token: confirm is due once these are committed,
   * and `keep` with them, which a later session of this device is made with.
   */
  | {
      type: 'readings';
      readings: readonly MeasuredReading[];
      carried: CarryingFragment;
      token: number | null;
      keep: Uint8Array | null;
      /** The survey that asked for them. */
      survey?: string;
    }
  /** Some of what was kept is settled: this is to be kept instead, soon. */
  | { type: 'keep'; keep: Uint8Array }
  /** A survey has come to its end; problem: why it has not everything. */
  | { type: 'surveyed'; id: string; problem: string | null; attributes: DeviceAttribute[] }
  | Extract<
      ClientNews,
      {
        type:
          | 'communication'
          | 'answered'
          | 'stranger'
          | 'clock'
          | 'fileProgress'
          | 'control'
          | 'diagnostic'
          | 'unreadable';
      }
    >
  /** An order has come to its end; problem: why nothing came of it. */
  | { type: 'ordered'; id: string; problem: string | null; answer: OrderAnswer }
  /** Commands that somebody gave the device. */
  | { type: 'commandsReported'; commands: ReportedCommand[] };
