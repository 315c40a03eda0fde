import { type DraftPointAt, pointsOf } from '../../protocols/index.ts';
import { isPlain, rawValue, scaledValue, wholeOf } from '../../point/index.ts';
import type { Result } from '../../session/index.ts';
import type { PointConfig } from './document.ts';

/** How a setpoint is set unless said otherwise. */
export const NEW_SETTING: NonNullable<PointConfig['setting']> = {
  low: null,
  high: null,
  feedback: null,
  tolerance: 0,
  feedbackWithinMs: 10_000,
};

type SettablePoint = Pick<PointConfig, 'kind' | 'name' | 'unit' | 'gain' | 'offset' | 'pairs' | 'range' | 'setting'> & {
  at: DraftPointAt;
};

/** What goes to the device to set a point to `value`, given in its unit; or why it may not be set to that. */
export const countsToSend = (value: number, point: SettablePoint): Result<number, string> =>
  allowed(value, rawValue(value, point), point);

/** The same for counts, as a centre gives them. */
export const countsAllowed = (counts: number, point: SettablePoint): Result<number, string> =>
  allowed(scaledValue(counts, point), counts, point);

function allowed(value: number, counts: number, point: SettablePoint): Result<number, string> {
  const { name, setting } = point;
  if (setting === null) return { ok: false, problem: `${name} is not to be set` };
  const beyond = limitProblem(value, point);
  if (beyond !== null) return { ok: false, problem: beyond };
  const { sendable, form } = pointsOf(point.at.protocol);
  const sent = sendable(point, counts);
  if (!sent.ok) return { ok: false, problem: `${name}: ${sent.problem}` };
  // Counts are meant as they are; what a scaling makes of a value lies between them nearly always.
  return isRounded(sent.value, counts) && isPlain(point)
    ? { ok: false, problem: `${name}: ${counts} is no whole number, and ${form(point)} holds no others` }
    : sent;
}

const isRounded = (sent: number, counts: number): boolean => sent !== counts && wholeOf(counts) !== sent;

/** What a point is set to by whoever wants `value`, in its unit, where the form of its counts makes it another; null: that. */
export function roundedTo(value: number, point: SettablePoint): number | null {
  const counts = rawValue(value, point);
  const sent = allowed(value, counts, point);
  return sent.ok && isRounded(sent.value, counts) ? scaledValue(sent.value, point) : null;
}

/** What goes to the device for a point to say a text; or why it may not. */
export function textToSend(text: string, point: SettablePoint): Result<string, string> {
  const { name, kind, setting, at } = point;
  if (kind !== 'text' || setting === null) return { ok: false, problem: `${name} is not to be written` };
  const sent = pointsOf(at.protocol).writable?.(point, text);
  if (sent === undefined) return { ok: false, problem: `${name}: texts are only seen` };
  return sent.ok ? sent : { ok: false, problem: `${name}: ${sent.problem}` };
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
