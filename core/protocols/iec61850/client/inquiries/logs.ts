import type { Instant } from '../../../../session/index.ts';
import type { AnswerTable } from '../../../client.ts';
import { demand, type Dialogue } from '../../../mms/dialogue.ts';
import type { TypeOf } from '../../../mms/wire/data.ts';
import type { JournalEntry } from '../../../mms/wire/journals.ts';
import type { ObjectName } from '../../../mms/wire/names.ts';
import { fromMms, print } from '../../model/reference.ts';
import { REASONS } from '../../report.ts';
import { decodeEntryTime, encodeEntryTime } from '../../time.ts';
import { shownOf, timeWords, typeOf, variable, words, type Inquiry } from './common.ts';

/** Entries of a log that are shown; more are asked for by a shorter time. */
const MOST_ENTRIES = 1000;
const MINUTE_MS = 60_000;
const REASON = '$ReasonCode';

/** The entries of the last minutes (QueryLogByTime, QueryLogAfter), the newest first. */
export function* readLog(log: string, minutes: number, now: Instant): Inquiry {
  const slash = log.indexOf('/');
  const name: ObjectName = { scope: 'domain', domain: log.slice(0, slash), item: log.slice(slash + 1) };
  const entries: JournalEntry[] = [];
  let more = true;
  while (more && entries.length < MOST_ENTRIES) {
    const last = entries.at(-1);
    const range =
      last === undefined
        ? { from: { time: encodeEntryTime(now - minutes * MINUTE_MS) } }
        : { after: { time: last.time, entry: last.id } };
    const response = yield* demand('readJournal', { name, ...range }, log);
    entries.push(...response.entries);
    more = response.more && response.entries.length > 0;
  }
  const shown = entries.slice(0, MOST_ENTRIES);
  const types = yield* typesOf(shown);
  const rows = shown.flatMap((entry) => rowsOf(entry, types)).reverse();
  const columns = ['Time', 'Reference', 'Value', 'Quality', 'Reason'];
  const table: AnswerTable = { title: `Entries of ${log}`, columns, rows };
  return {
    tables: [table],
    words: more ? `the first ${MOST_ENTRIES} entries of that time` : `${entries.length} entries`,
  };
}

/** Of each variable that is a structure, by its tag. */
function* typesOf(entries: readonly JournalEntry[]): Dialogue<Map<string, TypeOf | null>> {
  const tags = new Set(
    entries.flatMap(({ variables }) => variables.flatMap(({ tag, value }) => (value.type === 'structure' ? tag : []))),
  );
  const types = new Map<string, TypeOf | null>();
  for (const tag of [...tags].slice(0, MOST_TYPES)) {
    const slash = tag.indexOf('/');
    if (slash > 0) types.set(tag, yield* typeOf(variable(tag.slice(0, slash), tag.slice(slash + 1))));
  }
  return types;
}
const MOST_TYPES = 200;

function rowsOf(
  { time, variables, note }: JournalEntry,
  types: ReadonlyMap<string, TypeOf | null>,
): AnswerTable['rows'][number][] {
  const at = timeWords(decodeEntryTime(time));
  if (note !== undefined) return [{ cells: [at, '', note, '', ''] }];
  const reasons = new Map(
    variables
      .filter(({ tag }) => tag.endsWith(REASON))
      .map(({ tag, value }) => [
        tag.slice(0, -REASON.length),
        value.type === 'bits' ? REASONS.filter((_, bit) => value.bits[bit]).join(', ') : '',
      ]),
  );
  return variables
    .filter(({ tag }) => !tag.endsWith(REASON) && tag !== 'ReasonCode')
    .map(({ tag, value }) => {
      const slash = tag.indexOf('/');
      const read = slash < 0 ? null : fromMms(tag.slice(0, slash), tag.slice(slash + 1));
      const reference = read?.ok ? print(read.value) : tag;
      const path = read?.ok ? read.value.path : [];
      const said = value.type === 'structure' ? shownOf(types.get(tag) ?? null, value) : [words(path, value), ''];
      return { cells: [at, reference, ...said, reasons.get(tag) ?? ''] };
    });
}
