import type { DetailState } from '@halvix/core/path';
import type { DetailTable } from '@halvix/core/protocols';
import { clock } from '@halvix/wire';

/** Of all messages that came lately, together: a state goes out each second. */
const MOST_PAST_VALUES = 3000;

/** What a session knows beside its points, as those who look have it. */
export function detailStateOf(details: readonly DetailTable[]): DetailState {
  let left = MOST_PAST_VALUES;
  const hasRoom = (values: number): boolean => (left -= values) >= 0;
  const tables = details.map(({ columns, rows, ...table }) => ({
    ...table,
    columns: [...columns],
    rows: rows.map(({ cells, more, past = [], time = null, odd = [], key }) => ({
      ...{ key, cells: [...cells], time, odd: [...odd] },
      more: more ? { columns: [...more.columns], rows: more.rows.map((row) => [...row]) } : null,
      past: past
        .filter(({ values }) => hasRoom(values.length))
        .map(({ values, ...one }) => ({
          ...one,
          values: values.map(([name, value]) => [name, value] as [string, string]),
        })),
    })),
  }));
  return { at: clock.now(), tables };
}
