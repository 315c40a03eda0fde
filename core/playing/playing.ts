import { z } from 'zod';
import { isScaled, type PointKind } from '../point/index.ts';
import type { Result } from '../session/index.ts';

/*
 * Values that change by themselves, for commissioning without the far side: of a stand-in, in counts as on its wire, and of a
 * point of ours on test, in its unit.
 */

const number = (what: string): z.ZodNumber => z.number({ error: `${what} is a number` });
const period = z
  .number({ error: 'A period is a number of milliseconds' })
  .min(200, 'A period is at least 200 ms')
  .max(86_400_000, 'A period is at most 86400000 ms');
const between = { low: number('The low end'), high: number('The high end') };
/** Rows of a replay at most. */
const MOST_ROWS = 5000;

/** How a value goes: up and then down to the low end again, in waves, by chance, from one to the other, or as a file says. */
export const playSchema = z
  .discriminatedUnion(
    'shape',
    [
      z.object({ shape: z.literal('ramp'), ...between, periodMs: period }),
      z.object({ shape: z.literal('sine'), ...between, periodMs: period }),
      z.object({ shape: z.literal('square'), ...between, periodMs: period }),
      z.object({ shape: z.literal('walk'), ...between, step: number('A step').positive('A step is more than 0') }),
      z.object({ shape: z.literal('replay'), csv: z.string().max(200_000), again: z.boolean().default(true) }),
    ],
    { error: 'shape is ramp, sine, square, walk or replay' },
  )
  .refine((play) => !('low' in play) || play.low <= play.high, {
    path: ['low'],
    error: 'The low end is above the high one',
  });
export type Play = z.infer<typeof playSchema>;

interface Row {
  /** Since the first one. */
  atMs: number;
  value: number;
}

/**
 * A file of values with their times, a row each: `time,value` or `time;value`, the time in milliseconds or as ISO 8601 has it.
 * A first row that has no value is a heading. What is wrong is told with its line.
 */
export function rowsOf(csv: string): Result<Row[], string> {
  const rows: Row[] = [];
  const lines = csv.split(/\r?\n/);
  for (const [n, line] of lines.entries()) {
    if (line.trim() === '') continue;
    const [time = '', text = ''] = line.split(/[,;\t]/).map((cell) => cell.trim().replace(/^"(.*)"$/, '$1'));
    const value = text === '' ? NaN : Number(text);
    const atMs = /^\d+(\.\d+)?$/.test(time) ? Number(time) : Date.parse(time);
    if (rows.length === 0 && n === 0 && Number.isNaN(value)) continue;
    if (!Number.isFinite(value)) return { ok: false, problem: `line ${n + 1}: ${text || 'nothing'} is not a value` };
    if (Number.isNaN(atMs)) return { ok: false, problem: `line ${n + 1}: ${time || 'nothing'} is not a time` };
    const last = rows.at(-1);
    if (last && atMs < last.atMs)
      return { ok: false, problem: `line ${n + 1}: ${time} is before the time of the row above` };
    if (rows.length === MOST_ROWS) return { ok: false, problem: `line ${n + 1}: at most ${MOST_ROWS} rows` };
    rows.push({ atMs, value });
  }
  const [first] = rows;
  if (first === undefined) return { ok: false, problem: 'there is no row with a time and a value' };
  return { ok: true, value: rows.map(({ atMs, value }) => ({ atMs: atMs - first.atMs, value })) };
}

/** One value that plays, from its beginning on. */
export class Playing {
  private readonly rows: Row[];
  private last: number;

  constructor(
    readonly play: Play,
    private readonly kind: PointKind,
    private readonly began: number,
    private readonly chance: () => number,
  ) {
    const read = play.shape === 'replay' ? rowsOf(play.csv) : null;
    this.rows = read?.ok ? read.value : [];
    this.last = 'low' in play ? (play.low + play.high) / 2 : 0;
  }

  valueAt(now: number): number {
    const value = this.raw(now - this.began);
    return isScaled(this.kind) && this.kind !== 'counter' ? value : Math.round(value);
  }

  private raw(elapsed: number): number {
    const { play } = this;
    switch (play.shape) {
      case 'walk':
        this.last = Math.min(play.high, Math.max(play.low, this.last + (this.chance() * 2 - 1) * play.step));
        return this.last;
      case 'replay':
        return this.replayed(elapsed, play.again);
      default: {
        const { low, high, periodMs } = play;
        const part = (elapsed % periodMs) / periodMs;
        if (play.shape === 'square') return part < 0.5 ? low : high;
        if (play.shape === 'ramp') return low + (high - low) * (part < 0.5 ? 2 * part : 2 - 2 * part);
        return low + ((high - low) * (1 - Math.cos(2 * Math.PI * part))) / 2;
      }
    }
  }

  /** The last row holds for a second before the first one comes again. */
  private replayed(elapsed: number, again: boolean): number {
    const whole = (this.rows.at(-1)?.atMs ?? 0) + 1000;
    const at = again ? elapsed % whole : elapsed;
    return this.rows.findLast(({ atMs }) => atMs <= at)?.value ?? 0;
  }
}

/** The values that it comes to; of a file, or what is wrong with it. */
export function endsOf(play: Play): Result<number[], string> {
  if (play.shape !== 'replay') return { ok: true, value: [play.low, play.high] };
  const read = rowsOf(play.csv);
  return read.ok ? { ok: true, value: read.value.map(({ value }) => value) } : read;
}

/** In a word or two. */
export function playWords(play: Play): string {
  const by = 'periodMs' in play ? `, ${play.periodMs / 1000} s` : '';
  return 'low' in play
    ? `${play.shape} ${play.low} to ${play.high}${by}`
    : `replay${play.again ? ', again and again' : ''}`;
}
