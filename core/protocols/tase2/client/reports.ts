import type { Instant } from '../../../session/index.ts';
import type { DetailTable } from '../../client.ts';
import type { AccessResult } from '../../mms/wire/data.ts';
import { nameWords, type ObjectName } from '../../mms/wire/names.ts';
import type { PastMessages } from '../../past.ts';
import type { ClientSettings } from '../settings.ts';
import { SPECIAL, type Condition } from '../transfer.ts';
import { valueWords } from './readings.ts';
import { conditionWords, type Subscribed } from './subscribing.ts';

/* Transfer sets that report to us: what came last, and how that is shown. */

const MOST_CHANGES = 40;
/** A report is on its way for so long at most. */
const OVERDUE_MS = 2000;
/** Of the table of transfer sets: the column of the state. */
const STATE_AT = 3;

export interface Report {
  at: Instant;
  conditions: readonly Condition[];
  changed: readonly { point: string; before: AccessResult; now: AccessResult }[];
  values: number;
}
export interface Reporting {
  subscribed: Subscribed;
  reports: number;
  last: Report | null;
  /** When it was enabled. */
  since: Instant;
  shown: Map<string, AccessResult>;
  past: PastMessages;
  /** Octets of the last critical report: it is repeated until we have said that we have it. */
  octets: Uint8Array | null;
}

/** When a report was made, as it says itself; null: it does not. */
export function secondsOf(
  { members }: Subscribed,
  named: readonly ObjectName[] | null,
  results: readonly AccessResult[],
): number | null {
  const at = named?.findIndex(({ item }) => item === SPECIAL.time) ?? -1;
  // In the order of a data set of ours the time is the last of what stands in front.
  const place = named === null ? members.findIndex((one) => one !== null) - 1 : at;
  const time = results[place];
  return time?.type === 'integer' || time?.type === 'unsigned' ? Number(time.value) : null;
}

/**
 * A name that no data set of ours has: after the device, as several of ours may be with one peer, in one domain of his.
 * `code`: at most 24 characters; empty: nobody says.
 */
export function freeName(reporting: readonly Reporting[], code: string): string {
  const stem = `Hx_${code.replace(/[^A-Za-z0-9_$]/g, '_') || 'DataSet'}`;
  const taken = new Set(reporting.map(({ subscribed }) => subscribed.dataSet.item));
  let number = 1;
  const name = (): string => `${stem}${code === '' ? '' : '_'}${number}`;
  while (taken.has(name())) number++;
  return name();
}

/** What the last report changed, with what was there before. */
function changesOf(last: Report | null): string[][] {
  const changes: string[][] = [];
  for (const { point, before, now } of last?.changed ?? []) {
    const [was, is] = [valueWords(before), valueWords(now)];
    if (was !== is) changes.push([point, was, is]);
    if (changes.length === MOST_CHANGES) break;
  }
  return changes;
}

/** All values come each so often: a report that has not come by half as much again is missed. */
const isOverdue = (last: Instant, { integrityMs, bufferMs }: ClientSettings, now: Instant): boolean =>
  integrityMs > 0 && now > last + integrityMs * 1.5 + bufferMs + OVERDUE_MS;

export const transferSetTable = (
  reporting: readonly Reporting[],
  settings: ClientSettings,
  now: Instant,
): DetailTable => ({
  ...{ key: 'transferSets', title: 'Transfer sets' },
  columns: ['Transfer set', 'Data set', 'Points', 'State', 'Reports', 'Last'],
  rows: reporting.map(({ subscribed, reports, last, past, since }) => {
    const overdue = isOverdue(last?.at ?? since, settings, now);
    const { length } = subscribed.points;
    return {
      key: nameWords(subscribed.transferSet),
      cells: [
        ...[nameWords(subscribed.transferSet), nameWords(subscribed.dataSet), String(length)],
        ...[overdue ? 'overdue' : 'enabled', String(reports)],
        last === null ? 'none yet' : `${last.values} of ${length}${conditionWords(last.conditions)}`,
      ],
      time: last?.at ?? null,
      odd: overdue ? [STATE_AT] : [],
      past: past.shown,
      more: { columns: ['Object', 'Before', 'Now'], rows: changesOf(last) },
    };
  }),
});
