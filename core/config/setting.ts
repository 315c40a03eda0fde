import { SETPOINT_FORMS, SETPOINT_LIMITS, isWholeForm, type SetpointForm } from '../protocols/dnp3/index.ts';
import { rawValue, scaledValue } from '../point/index.ts';
import type { Result } from '../session/index.ts';
import type { PointConfig } from './document.ts';

/** How a setpoint is set unless said otherwise. */
export const NEW_SETTING: NonNullable<PointConfig['setting']> = {
  low: null,
  high: null,
  feedback: null,
  tolerance: 0,
  feedbackWithinMs: 10_000,
};

type SettablePoint = Pick<PointConfig, 'name' | 'unit' | 'gain' | 'offset' | 'pairs' | 'range' | 'setting'> & {
  at: Pick<PointConfig['at'], 'sentAs'>;
};

/** What goes to the device to set a point to `value`, given in its unit; or why it may not be set to that. */
export const countsToSend = (value: number, point: SettablePoint): Result<number, string> =>
  allowed(value, rawValue(value, point), point);

/** The same for counts, as a centre gives them. */
export const countsAllowed = (counts: number, point: SettablePoint): Result<number, string> =>
  allowed(scaledValue(counts, point), counts, point);

function allowed(value: number, counts: number, point: SettablePoint): Result<number, string> {
  const { name, setting } = point;
  const { sentAs } = point.at;
  if (setting === null) return { ok: false, problem: `${name} is not to be set` };
  const whole = isWholeForm(sentAs) ? Math.round(counts) : counts;
  const problem = limitProblem(value, point) ?? formProblem(whole, name, sentAs);
  return problem === null ? { ok: true, value: whole } : { ok: false, problem };
}

/** A limit may be missed by as much as rounding makes. */
const ROUNDING = 1e-9;

function limitProblem(value: number, { name, unit, setting }: SettablePoint): string | null {
  if (!Number.isFinite(value)) return `${name}: ${value} is not a number`;
  const slack = ROUNDING * Math.max(1, Math.abs(value));
  const words = (limit: number): string => (unit ? `${limit} ${unit}` : String(limit));
  if (setting?.low != null && value < setting.low - slack)
    return `${name}: ${value} is below its lowest, ${words(setting.low)}`;
  if (setting?.high != null && value > setting.high + slack)
    return `${name}: ${value} is above its highest, ${words(setting.high)}`;
  return null;
}

function formProblem(counts: number, name: string, form: SetpointForm): string | null {
  const [low, high] = SETPOINT_LIMITS[SETPOINT_FORMS[form]];
  return counts >= low && counts <= high
    ? null
    : `${name}: ${counts} counts do not fit ${form}, which holds ${low} to ${high}`;
}
