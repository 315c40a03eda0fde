import { NEW_SETTING, type DraftPoint } from '../../config/index.ts';
import { OPERATION_WORDS, operationOf, stateAfter, type Operation } from '../../point/index.ts';
import type { Result } from '../../session/index.ts';
import { checked, done, numberField, readReference, shortened, wrong, type PointField } from './field.ts';

/** A control that nothing is known of yet. */
export const NEW_CONTROL = {
  operations: ['latchOn', 'latchOff'] as Operation[],
  onMs: 500,
  offMs: 250,
  feedback: null,
  feedbackWithinMs: 10_000,
};
const controlWith = (point: DraftPoint, change: Partial<NonNullable<DraftPoint['control']>>): Partial<DraftPoint> => ({
  control: { ...(point.control ?? NEW_CONTROL), ...change },
});

export const settingWith = (
  point: DraftPoint,
  change: Partial<NonNullable<DraftPoint['setting']>>,
): Partial<DraftPoint> => ({
  setting: { ...(point.setting ?? NEW_SETTING), ...change },
});

const settingField = (key: string, title: string, limit: 'low' | 'high', aliases: readonly string[]): PointField =>
  numberField(
    key,
    title,
    'of a setpoint, in its unit; empty: what its form holds',
    aliases,
    (p) => p.setting?.[limit] ?? null,
    (p, value) => (value === null && p.setting === null ? {} : settingWith(p, { [limit]: value })),
  );

/** The analog that follows a setpoint: `AI 2`. */
function readFollower(text: string, point: DraftPoint): Result<Partial<DraftPoint>, string> {
  if (text.trim() === '') return { ok: true, value: point.setting ? settingWith(point, { feedback: null }) : {} };
  const feedback = readReference(text, point);
  return feedback === null
    ? { ok: false, problem: `"${shortened(text)}" is not an address such as AI 2` }
    : { ok: true, value: settingWith(point, { feedback }) };
}

/** `BI 0 (trip 0, close 1)`; what is left out goes by the words of the operations. */
function readFeedback(text: string, point: DraftPoint): Result<Partial<DraftPoint>, string> {
  if (point.kind === 'setpoint') return readFollower(text, point);
  if (text.trim() === '') return { ok: true, value: point.control ? controlWith(point, { feedback: null }) : {} };
  const match = /^([^(]+?)\s*(?:\(([^)]*)\))?$/.exec(text.trim());
  const reference = match ? readReference(match[1], point) : null;
  if (!match || reference === null)
    return { ok: false, problem: `"${shortened(text)}" is not an address such as BI 0 (trip 0, close 1)` };
  const expect: Partial<Record<Operation, number>> = {};
  for (const one of point.control?.operations ?? NEW_CONTROL.operations) {
    const value = stateAfter(one);
    if (value !== null) expect[one] = value;
  }
  for (const part of (match[2] ?? '').split(',').filter((one) => one.trim() !== '')) {
    const [, words, value] = /^\s*(.+?)\s+(\d)\s*$/.exec(part) ?? [];
    const operation = words === undefined ? undefined : operationOf(words);
    if (operation === undefined) return { ok: false, problem: `"${part.trim()}" is not an operation and its state` };
    expect[operation] = Number(value);
  }
  return { ok: true, value: controlWith(point, { feedback: { point: reference, expect } }) };
}

function feedbackText({ control, setting }: DraftPoint): string {
  if (setting?.feedback) return setting.feedback;
  const feedback = control?.feedback;
  if (!feedback) return '';
  const expected = Object.entries(feedback.expect).map(
    ([operation, value]) => `${OPERATION_WORDS[operation as Operation]} ${value}`,
  );
  return `${feedback.point}${expected.length > 0 ? ` (${expected.join(', ')})` : ''}`;
}

/** What an output may be asked for, and what shows that it happened. */
export const CONTROL_FIELDS: readonly PointField[] = [
  {
    key: 'operations',
    title: 'Operations',
    help: `of a control: ${Object.values(OPERATION_WORDS).join(', ')}, with / between`,
    aliases: ['control', 'commands'],
    text: ({ control }) => control?.operations.map((one) => OPERATION_WORDS[one]).join(' / ') ?? '',
    set: (point, text) => {
      if (text.trim() === '') return done({ ...point, control: null });
      const operations: Operation[] = [];
      for (const part of text.split('/')) {
        const operation = operationOf(part);
        if (operation === undefined) return wrong(`"${shortened(part.trim())}" is not an operation`);
        operations.push(operation);
      }
      return checked(point, controlWith(point, { operations }));
    },
  },
  numberField(
    'onMs',
    'On time',
    'ms, 0 to 600 000',
    ['on', 'on time ms', 'pulse on'],
    (p) => p.control?.onMs ?? null,
    (p, value) => (value === null && p.control === null ? {} : controlWith(p, { onMs: value ?? 500 })),
  ),
  numberField(
    'offMs',
    'Off time',
    'ms, 0 to 600 000',
    ['off', 'off time ms', 'pulse off'],
    (p) => p.control?.offMs ?? null,
    (p, value) => (value === null && p.control === null ? {} : controlWith(p, { offMs: value ?? 250 })),
  ),
  {
    key: 'feedback',
    title: 'Feedback',
    help: 'point that shows that a control happened: BI 0 (trip 0, close 1); of a setpoint, the one that follows: AI 2',
    aliases: ['feedback point', 'return'],
    text: feedbackText,
    set: (point, text) => {
      const read = readFeedback(text, point);
      return read.ok ? checked(point, read.value) : wrong(read.problem);
    },
  },
];

/** Between which values a setpoint may be set. */
export const SETTING_FIELDS: readonly PointField[] = [
  {
    key: 'settable',
    title: 'Text may be written',
    help: 'of a text: yes or no',
    aliases: ['writable', 'text writable'],
    choices: ['yes', 'no'],
    text: ({ kind, setting }) => (kind !== 'text' ? '' : setting === null ? 'no' : 'yes'),
    set: (point, text) => {
      const words = text.trim().toLowerCase();
      if (point.kind !== 'text') return words === '' ? done(point) : wrong('only a text is written');
      if (words === 'yes') return done({ ...point, setting: point.setting ?? NEW_SETTING });
      return words === '' || words === 'no'
        ? done({ ...point, setting: null })
        : wrong(`"${shortened(text)}" is neither yes nor no`);
    },
  },
  settingField('setLow', 'Lowest to set', 'low', ['set min', 'setpoint low', 'command low']),
  settingField('setHigh', 'Highest to set', 'high', ['set max', 'setpoint high', 'command high']),
  numberField(
    'tolerance',
    'Tolerance',
    'of what follows a setpoint, in its unit; half a count always counts as there',
    ['feedback tolerance'],
    (p) => p.setting?.tolerance ?? null,
    (p, value) => (value === null && p.setting === null ? {} : settingWith(p, { tolerance: value ?? 0 })),
  ),
];
