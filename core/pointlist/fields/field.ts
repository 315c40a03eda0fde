import type { z } from 'zod';
import { draftPointSchema, type DraftPoint } from '../../config/index.ts';
import { addressOf, readAddress, type ProtocolCode } from '../../protocols/index.ts';
import type { Result } from '../../session/index.ts';

/**
 * The fields of a point as text: one table for the grid, for pasting, for files and for sheets. `text` and `set` are
 * each other's inverse: what one writes the other reads.
 */
export interface PointField {
  key: string;
  title: string;
  /** Unit and limit, for people. */
  help: string;
  numeric?: boolean;
  /** Other headings that mean this field (common practice). */
  aliases: readonly string[];
  /** For a cell that is chosen rather than typed. */
  choices?: readonly string[];
  /** The protocols whose points alone have it; absent: all have. */
  protocols?: readonly ProtocolCode[];
  text: (point: DraftPoint) => string;
  set: (point: DraftPoint, text: string) => Result<DraftPoint, string>;
}

export const done = (value: DraftPoint): Result<DraftPoint, string> => ({ ok: true, value });
export const wrong = (problem: string): Result<DraftPoint, string> => ({ ok: false, problem });

/** A number as people and spreadsheets write it, or why it is none. */
export function readNumber(text: string): Result<number, string> {
  const trimmed = text.trim();
  if (/^[-+]?(\d+\.?\d*|\.\d+)([eE][-+]?\d{1,3})?$/.test(trimmed)) {
    const value = Number(trimmed);
    if (Number.isFinite(value)) return { ok: true, value };
  }
  if (trimmed.startsWith('=')) return { ok: false, problem: `"${shortened(trimmed)}" is a formula: give its value` };
  if (/^[-+]?\d{1,3}(,\d+)+$/.test(trimmed))
    return { ok: false, problem: `"${trimmed}" has a comma: write ${trimmed.replace(',', '.')}` };
  return { ok: false, problem: `"${shortened(trimmed)}" is not a number` };
}

export const shortened = (text: string): string => (text.length > 40 ? `${text.slice(0, 39)}…` : text);

/** Sets one property after checking the whole point against its schema. */
export function checked(point: DraftPoint, change: Partial<DraftPoint>): Result<DraftPoint, string> {
  const next = { ...point, ...change };
  const shape: Record<string, z.ZodType | undefined> = draftPointSchema.shape;
  for (const [key, value] of Object.entries(change)) {
    const parsed = shape[key]?.safeParse(value);
    if (parsed === undefined) continue;
    if (!parsed.success) return wrong(parsed.error.issues[0].message);
    (next as Record<string, unknown>)[key] = parsed.data;
  }
  return done(next);
}

export const formula = (text: string): string | null =>
  /^[=@]/.test(text.trim())
    ? `"${shortened(text.trim())}" looks like a formula: a text does not begin with = or @`
    : null;

export const textField = (
  key: 'name' | 'description' | 'unit',
  title: string,
  help: string,
  aliases: readonly string[],
): PointField => ({
  key,
  title,
  help,
  aliases,
  text: (point) => point[key],
  set: (point, text) => {
    const problem = formula(text);
    return problem === null ? checked(point, { [key]: text.trim() }) : wrong(problem);
  },
});

export const numberField = (
  key: string,
  title: string,
  help: string,
  aliases: readonly string[],
  get: (point: DraftPoint) => number | null,
  put: (point: DraftPoint, value: number | null) => Partial<DraftPoint>,
): PointField => ({
  key,
  title,
  help,
  aliases,
  numeric: true,
  text: (point) => {
    const value = get(point);
    return value === null ? '' : String(value);
  },
  set: (point, text) => {
    if (text.trim() === '') return checked(point, put(point, null));
    const read = readNumber(text);
    return read.ok ? checked(point, put(point, read.value)) : wrong(read.problem);
  },
});

/** Another point of the list as people name it: `BI 0`, `bi0`, `AI 7`; null: no address. */
export const readReference = (text: string, { at }: DraftPoint): string | null => {
  const read = readAddress(at.protocol, text);
  return read === null ? null : addressOf(read);
};
