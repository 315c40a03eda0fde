import { countsToSend, roundedTo, textToSend } from '@halvix/core/config';
import {
  decimals,
  OPERATION_WORDS,
  scaledValue,
  scalingOf,
  type Operation,
  type ScaledPoint,
} from '@halvix/core/point';
import { pointsOf } from '@halvix/core/protocols';
import type { PointView } from './server/points.ts';
import type { CommandView } from './live/topics.ts';

/** An operation as it stands at the beginning of a line: `Latch on`. */
export function operationWords(operation: string): string {
  const words = OPERATION_WORDS[operation as Operation] ?? operation;
  return words.charAt(0).toUpperCase() + words.slice(1);
}

/** What a recorded command set a point to: `Set to 2.5 m`. */
export function setWords(counts: number, point: ScaledPoint & { unit: string }): string {
  const value = scaledValue(counts, point).toFixed(decimals(scalingOf(point)));
  return `Set to ${value}${point.unit ? ` ${point.unit}` : ''}`;
}

/** What a recorded command wrote: `Set to "pump 2"`. */
export const writeWords = (text: string): string => `Set to “${text}”`;

/** What a person is about to ask of a point: an operation of a control, a value of a setpoint, or a text. */
export type OrderWanted =
  | { operation: Operation; onMs: number | null; offMs: number | null; count: number | null }
  | { operation: 'set'; value: number | null }
  | { operation: 'write'; text: string };

/** Why it cannot be asked; null when it can. */
export function wantedProblem(wanted: OrderWanted, point: PointView): string | null {
  if (wanted.operation === 'write') {
    const text = textToSend(wanted.text, { ...point, pairs: null, range: 'none' });
    return text.ok ? null : text.problem;
  }
  if (wanted.operation === 'set') {
    if (wanted.value === null) return `Value: a number${point.unit ? ` in ${point.unit}` : ''}`;
    const counts = countsOf(wanted.value, point);
    return counts.ok ? null : counts.problem;
  }
  const { onMs, offMs, count } = wanted;
  if (onMs === null || onMs < 0 || onMs > 600_000) return `On time: ${onMs ?? 'nothing'} is not from 0 to 600 000 ms`;
  if (offMs === null || offMs < 0 || offMs > 600_000)
    return `Off time: ${offMs ?? 'nothing'} is not from 0 to 600 000 ms`;
  return count === null || count < 1 || count > 255 ? `Count: ${count ?? 'nothing'} is not from 1 to 255` : null;
}

/** What would go to the device to set a point to a value in its unit. */
export const countsOf = (value: number, point: PointView): ReturnType<typeof countsToSend> =>
  countsToSend(value, { ...point, pairs: null, range: 'none' });

/** What it is really set to, where its counts cannot be what is wanted; null: they can. */
export const roundedOf = (value: number, point: PointView): number | null =>
  roundedTo(value, { ...point, pairs: null, range: 'none' });

const valueIn = (value: number, { unit, gain, offset }: PointView): string =>
  `${value.toFixed(decimals({ gain, offset }))}${unit ? ` ${unit}` : ''}`;

/** `2650 counts, as int16, rounded to 2.65 m`; empty: it cannot be sent. */
export function countsWords(value: number, point: PointView): string {
  const counts = countsOf(value, point);
  if (!counts.ok) return '';
  const rounded = roundedOf(value, point);
  const form = pointsOf(point.at.protocol).form(point);
  return `${counts.value} counts, as ${form}${rounded === null ? '' : `, rounded to ${valueIn(rounded, point)}`}`;
}

/** What it will have been set to. */
function setTo(value: number | null, point: PointView): string {
  const rounded = value === null ? null : roundedOf(value, point);
  if (rounded !== null) return valueIn(rounded, point);
  return `${value ?? ''}${point.unit ? ` ${point.unit}` : ''}`;
}

/** `Trip`, `Set to 2.5 m`. */
export function wantedWords(wanted: OrderWanted, point: PointView): string {
  if (wanted.operation === 'write') return writeWords(wanted.text);
  if (wanted.operation === 'set') return `Set to ${setTo(wanted.value, point)}`;
  return operationWords(wanted.operation);
}

/** How exactly: the times of a pulse, or the counts that are sent. */
export function detailWords(wanted: OrderWanted, point: PointView): string {
  const form = pointsOf(point.at.protocol).form(point);
  if (wanted.operation === 'write')
    return `${wanted.text.length} ${wanted.text.length === 1 ? 'character' : 'characters'}, as ${form}`;
  if (wanted.operation === 'set') return countsWords(wanted.value ?? NaN, point);
  const { operation, onMs, offMs, count } = wanted;
  return isPulse(operation)
    ? `${onMs} ms on, ${offMs} ms off, ${count === 1 ? 'once' : `${count} times`}`
    : 'held until it is changed again';
}

/** The point that will show it, and what it has to become; null when no point does. */
export function expectedOf(wanted: OrderWanted, point: PointView): { name: string; value: string } | null {
  const { control, setting } = point;
  if (wanted.operation === 'write') return setting && { name: setting.follows.name, value: `“${wanted.text}”` };
  if (wanted.operation === 'set') return setting && { name: setting.follows.name, value: setTo(wanted.value, point) };
  const feedback = control?.feedback;
  if (!feedback) return null;
  const expected = feedback.expect[wanted.operation];
  const value = expected === undefined ? 'something else' : (feedback.states?.[expected] ?? String(expected));
  return { name: feedback.name, value };
}

export const MODE_WORDS: Record<string, string> = {
  selectOperate: 'select, operate',
  direct: 'direct operate',
  directNoAnswer: 'direct, unanswered',
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
  const selects = mode === 'selectOperate' || mode === 'selectOnly';
  const steps: ProgressStep[] = [
    { words: `Requested by ${command.requestedBy}`, time: command.requested, state: 'done' },
    {
      words: selects ? 'Select sent to the device' : 'Sent to the device',
      time: command.sent,
      state: 'later',
    },
  ];
  if (selects) steps.push({ words: 'Selected: the device is ready', time: command.selected, state: 'later' });
  if (mode === 'selectOperate' || mode === 'direct')
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
