import type { DetailState } from '@halvix/core/path';
import type { DetailTable } from '@halvix/core/protocols';
import { clock } from '@halvix/wire';

/** What a session knows beside its points, as those who look have it. */
export function detailStateOf(details: readonly DetailTable[]): DetailState {
  const tables = details.map(({ columns, rows, ...table }) => ({
    ...table,
    columns: [...columns],
    rows: rows.map(({ cells, more, past = [], time = null, odd = [], key }) => ({
      ...{ key, cells: [...cells], time, odd: [...odd] },
      more: more ? { columns: [...more.columns], rows: more.rows.map((row) => [...row]) } : null,
      past: past.map(({ values, ...one }) => ({
        ...one,
        values: values.map(([name, value]) => [name, value] as [string, string]),
      })),
    })),
  }));
  return { at: clock.now(), tables };
}
