import { addressOf, definitionOf, pointsOf } from '../../protocols/index.ts';
import {
  deadbandInUnits,
  hasStates,
  inOrder,
  isScaled,
  KIND_WORDS,
  spanOf,
  type LimitLevel,
  LIMIT_LEVELS,
  LEVEL_WORDS,
} from '../../point/index.ts';
import type { DeviceObject, DraftPoint } from '../document/objects.ts';
import { countsToSend, NEW_SETTING, textToSend } from '../document/setting.ts';
import type { PointProblem, Severity } from './problem.ts';

/** Rows between two pauses of `checkingPoints`. */
const SLICE = 2000;

/**
 * What is not right within one device's list. `device` gives the poll periods; without it what depends on them is
 * left out. A row may have several problems.
 */
export function checkPoints(points: readonly DraftPoint[], device: DeviceObject | null): PointProblem[] {
  const checking = checkingPoints(points, device);
  for (;;) {
    const step = checking.next();
    if (step.done) return step.value;
  }
}

/** The same with pauses, for a screen that has to stay alive over a list of 100 000. */
export function* checkingPoints(
  points: readonly DraftPoint[],
  device: DeviceObject | null,
): Generator<void, PointProblem[]> {
  const problems: PointProblem[] = [];
  const rowsAt = new Map<string, number>();
  const names = new Map<string, number>();
  const highest = new Map<string, number>();
  const seriesOf = (point: DraftPoint): string => pointsOf(point.at.protocol).series(point);
  for (const point of points) {
    const { number, width } = pointsOf(point.at.protocol);
    const last = (number(point.at) ?? -1) + (number(point.at) === null ? 0 : width(point) - 1);
    highest.set(seriesOf(point), Math.max(highest.get(seriesOf(point)) ?? -1, last));
  }
  const nextFree = (point: DraftPoint): number => {
    const next = (highest.get(seriesOf(point)) ?? -1) + 1;
    highest.set(seriesOf(point), next + pointsOf(point.at.protocol).width(point) - 1);
    return next;
  };
  for (const [row, point] of points.entries()) {
    if (row % SLICE === SLICE - 1) yield;
    const report = (severity: Severity, field: string, words: string, fix?: PointProblem['fix']): void =>
      void problems.push({ severity, row, field, words, ...(fix ? { fix } : {}) });
    const free = (): PointProblem['fix'] => {
      if (!pointsOf(point.at.protocol).isNumbered) return undefined;
      const at = pointsOf(point.at.protocol).withNumber(point.at, nextFree(point));
      return { words: `use ${addressOf({ kind: point.kind, at })}`, set: { at } };
    };
    const key = addressOf(point);
    if (key === '') report('problem', 'index', 'it has no address', free());
    else {
      if (rowsAt.has(key)) report('problem', 'index', 'another point has this address', free());
      else rowsAt.set(key, row);
    }
    // A control and the input that shows it may well be called the same.
    const name = `${point.kind} ${point.name.toLowerCase()}`;
    const twin = names.get(name);
    if (twin === undefined) names.set(name, row);
    else report('warning', 'name', `${addressOf(points[twin]) || 'a point without address'} has this name too`);
    checkScaling(point, report);
    checkLimits(point, report);
    checkUse(point, device, report);
  }
  for (const [row, point] of points.entries()) {
    if (row % (10 * SLICE) === 10 * SLICE - 1) yield;
    const feedback = point.control?.feedback?.point ?? point.setting?.feedback;
    if (feedback != null && !rowsAt.has(feedback))
      problems.push({
        severity: 'problem',
        row,
        field: 'feedback',
        words: `its feedback ${feedback} is not in the list`,
      });
    const { history } = point;
    if (history.mode === 'trigger' && !rowsAt.has(history.point))
      problems.push({
        severity: 'problem',
        row,
        field: 'history',
        words: `its trigger ${history.point} is not in the list`,
      });
  }
  return problems;
}

type Report = (severity: Severity, field: string, words: string, fix?: PointProblem['fix']) => void;

function checkScaling(point: DraftPoint, report: Report): void {
  const { pairs, range, deadband } = point;
  if (pairs !== null) {
    const { rawLow, rawHigh, low, high } = pairs;
    if (rawLow === rawHigh) report('problem', 'rawHigh', `both raw values are ${rawLow}: no line goes through them`);
    else if (low === high) report('warning', 'high', `both engineering values are ${low}: the value will never change`);
    else if (rawLow > rawHigh)
      report('warning', 'rawLow', `the raw pair is the wrong way round: ${rawLow} is above ${rawHigh}`, {
        words: 'swap both pairs',
        set: { pairs: { rawLow: rawHigh, rawHigh: rawLow, low: high, high: low } },
      });
  } else if (range !== 'none')
    report('problem', 'range', 'a range check needs two pairs of raw and engineering values', {
      words: 'no range check',
      set: { range: 'none' },
    });
  if (!isScaled(point.kind)) {
    if (pairs !== null || point.gain !== 1 || point.offset !== 0)
      report('warning', 'gain', 'a state has no scaling; it is not used', {
        words: 'take it out',
        set: { pairs: null, range: 'none', gain: 1, offset: 0 },
      });
    return;
  }
  const units = deadbandInUnits(deadband, point);
  const span = spanOf(point);
  if (units === null)
    report('problem', 'deadband', 'a deadband in per cent needs a span: give two pairs of raw and engineering values');
  else if (span !== null && units > span && span > 0)
    report('warning', 'deadband', `a deadband of ${units} is larger than the span of ${span}: no change gets through`);
}

function checkLimits({ kind, limits, pairs }: DraftPoint, report: Report): void {
  if (limits === null) return;
  if (!isScaled(kind)) {
    report('warning', 'high', 'a state has no limits; they are not used', {
      words: 'take them out',
      set: { limits: null },
    });
    return;
  }
  if (!inOrder(limits)) report('problem', 'high', 'the limits do not rise from low-low to high-high');
  if (pairs === null) return;
  const [bottom, top] = [Math.min(pairs.low, pairs.high), Math.max(pairs.low, pairs.high)];
  for (const level of LIMIT_LEVELS satisfies readonly LimitLevel[]) {
    const limit = limits[level];
    if (limit !== null && (limit < bottom || limit > top))
      report('warning', level, `the ${LEVEL_WORDS[level]} limit ${limit} lies outside the range ${bottom} to ${top}`);
  }
}

function checkSetting(point: DraftPoint, report: Report): void {
  const { kind, setting } = point;
  if (kind === 'setpoint' && setting === null)
    report('warning', 'sentAs', 'it can be seen but not set: nothing says how it is sent', {
      words: `send it as ${pointsOf(point.at.protocol).form(point)}`,
      set: { setting: NEW_SETTING },
    });
  if (setting === null) return;
  if (kind === 'text') {
    const sent = textToSend('', point);
    if (!sent.ok) report('warning', 'settable', sent.problem, { words: 'only see it', set: { setting: null } });
    return;
  }
  if (kind !== 'setpoint') {
    report('warning', 'sentAs', 'only an analog setpoint or a text is set; this is not used', {
      words: 'take it out',
      set: { setting: null },
    });
    return;
  }
  const { low, high } = setting;
  if (low !== null && high !== null && low > high)
    report('problem', 'setLow', `the lowest value to set, ${low}, is above the highest, ${high}`);
  for (const [field, value] of [
    ['setLow', low],
    ['setHigh', high],
  ] as const) {
    const sent =
      value === null ? null : countsToSend(value, { ...point, setting: { ...setting, low: null, high: null } });
    if (sent !== null && !sent.ok) report('problem', field, sent.problem);
  }
}

function checkUse(point: DraftPoint, device: DeviceObject | null, report: Report): void {
  const { kind, states, normal, control } = point;
  if (kind === 'output' && control === null)
    report('warning', 'operations', 'no operation is allowed: it can be seen but not operated');
  if (kind !== 'output' && control !== null)
    report('warning', 'operations', 'only a binary control is operated; the operations are not used', {
      words: 'take them out',
      set: { control: null },
    });
  checkSetting(point, report);
  if (states !== null && hasStates(kind)) {
    const wanted = kind === 'doubleBit' ? 4 : 2;
    if (states.length !== wanted)
      report('problem', 'states', `${states.length} state words, and the kind has ${wanted} states`);
  }
  if (normal !== null && normal > (kind === 'doubleBit' ? 3 : 1))
    report('problem', 'normal', `there is no state ${normal}`);
  if (device !== null && device.protocol !== point.at.protocol) {
    const words = (code: typeof device.protocol): string => definitionOf(code).words.name;
    report('problem', 'index', `it is a ${words(point.at.protocol)} point of a ${words(device.protocol)} device`);
    return;
  }
  const { kinds, check } = pointsOf(point.at.protocol);
  if (!kinds.includes(kind))
    report('problem', 'kind', `${definitionOf(point.at.protocol).words.name} has no ${KIND_WORDS[kind].many}`);
  for (const { severity, field, words } of check(point, device?.settings ?? null)) report(severity, field, words);
}
