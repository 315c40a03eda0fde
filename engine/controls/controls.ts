import type { CentreOrder, ControlOutcome } from '@halvix/core/protocols';

/** What outbounds and commands tell each other of controls. */

/** A centre wants something operated; counts are those of the device. */
export interface CentreControl {
  outbound: string;
  device: string;
  /** Of the device's point, as text. */
  address: string;
  phase: 'select' | 'operate' | 'direct';
  order: CentreOrder;
}

/** An output was given a command, and its device has said what it thinks of it. */
export interface GivenCommand {
  device: string;
  address: string;
  kind: 'output' | 'setpoint';
  /** 1 or 0; of an analog output, counts. */
  value: number;
  outcome: ControlOutcome;
}
