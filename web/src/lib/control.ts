import type { ControlOperation } from '@halvix/core/dnp3';
import type { CommandView } from './topics.ts';

export const OPERATION_WORDS: Record<ControlOperation, string> = {
  trip: 'Trip',
  close: 'Close',
  latchOn: 'Latch on',
  latchOff: 'Latch off',
  pulseOn: 'Pulse on',
  pulseOff: 'Pulse off',
};

export const operationWords = (operation: string): string =>
  OPERATION_WORDS[operation as ControlOperation] ?? operation;

export const MODE_WORDS: Record<string, string> = {
  selectOperate: 'select, operate',
  direct: 'direct',
  selectOnly: 'select only',
};

/** Latching ignores the times; everything else is a pulse of them. */
export const isPulse = (operation: string): boolean => operation !== 'latchOn' && operation !== 'latchOff';

export interface ProgressStep {
  words: string;
  time: number | null;
  state: 'done' | 'now' | 'later' | 'failed';
}

const END_WORDS: Record<string, string> = {
  refused: 'Refused by the device',
  failed: 'Failed, nothing was operated',
  unknown: 'Outcome unknown',
  expired: 'Expired, not sent',
  interrupted: 'Outcome unknown, the engine stopped',
  unconfirmed: 'Accepted, but not confirmed by the feedback point',
};

/** What has happened to a command so far and what is to come, in order. */
export function progressOf(command: CommandView, hasFeedback: boolean): ProgressStep[] {
  const { state, status, words, mode } = command;
  const failed = END_WORDS[state];
  const steps: ProgressStep[] = [
    { words: `Requested by ${command.requestedBy}`, time: command.requested, state: 'done' },
    {
      words: mode === 'direct' ? 'Sent to the device' : 'Select sent to the device',
      time: command.sent,
      state: 'later',
    },
  ];
  if (mode !== 'direct') steps.push({ words: 'Selected: the device is ready', time: command.selected, state: 'later' });
  if (mode !== 'selectOnly')
    steps.push({ words: 'Operated: the device accepted', time: command.operated, state: 'later' });
  if (hasFeedback && mode !== 'selectOnly')
    steps.push({ words: 'Confirmed by the feedback point', time: command.confirmed, state: 'later' });
  for (const step of steps) if (step.time !== null) step.state = 'done';
  const next = steps.findIndex((step) => step.state === 'later');
  if (failed !== undefined) {
    const done = steps.filter((step) => step.state === 'done');
    const detail = status === null || state !== 'refused' ? words : `status ${status}, ${words ?? ''}`;
    return [...done, { words: detail ? `${failed}: ${detail}` : failed, time: command.ended, state: 'failed' }];
  }
  if (next >= 0 && command.ended === null) steps[next].state = 'now';
  if (state === 'confirmed' && words) steps[steps.length - 1].words = `Confirmed: ${words}`;
  return steps;
}
