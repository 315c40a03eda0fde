import type { DraftPoint } from '../../config/index.ts';
import type { Result } from '../../session/index.ts';
import { checked, readReference, shortened, wrong, type PointField } from './field.ts';

function readHistory(text: string, point: DraftPoint): Result<DraftPoint['history'], string> {
  const words = text.trim().toLowerCase();
  if (words === '' || words === 'every') return { ok: true, value: { mode: 'every' } };
  if (words === 'deadband') return { ok: true, value: { mode: 'deadband' } };
  const interval = /^(?:each |every )?(\d+(?:\.\d+)?)\s*(ms|s|min|h)$/.exec(words);
  if (interval) {
    const unit = { ms: 1, s: 1000, min: 60_000, h: 3_600_000 }[interval[2] as 'ms' | 's' | 'min' | 'h'];
    return { ok: true, value: { mode: 'interval', everyMs: Math.round(Number(interval[1]) * unit) } };
  }
  const trigger = /^(?:on|when)\s+(.+)$/.exec(words);
  const reference = trigger ? readReference(trigger[1], point) : null;
  if (reference !== null) return { ok: true, value: { mode: 'trigger', point: reference } };
  return { ok: false, problem: `"${shortened(text)}" is not every, deadband, an interval such as 10 s, or on BI 3` };
}

function historyText({ history }: DraftPoint): string {
  switch (history.mode) {
    case 'every':
      return 'every';
    case 'deadband':
      return 'deadband';
    case 'interval':
      return history.everyMs % 1000 === 0 ? `${history.everyMs / 1000} s` : `${history.everyMs} ms`;
    case 'trigger':
      return `on ${history.point}`;
    default:
      return history satisfies never;
  }
}

/** What history keeps of it. */
export const HISTORY_FIELDS: readonly PointField[] = [
  {
    key: 'history',
    title: 'History',
    help: 'every, deadband, an interval such as 10 s, or on BI 3 (when it rises)',
    aliases: ['archive', 'log'],
    text: historyText,
    set: (point, text) => {
      const read = readHistory(text, point);
      return read.ok ? checked(point, { history: read.value }) : wrong(read.problem);
    },
  },
];
