import type { AnswerTable } from '../../../client.ts';
import { allNames, ask, type Dialogue } from '../../../mms/dialogue.ts';
import { decodeStamp } from '../../time.ts';
import { devicesOf, entryTime, numberIn, readAll, timeWords, variable, yes, type Inquiry } from './common.ts';

/**
 * What of a device is not read with its points: setting groups (IEC 61850-7-2, clause 16), logs (17.3), and values that
 * can be replaced or held; each with what can be asked next.
 */
export function* overview(): Inquiry {
  const devices = yield* devicesOf();
  const groups: AnswerTable['rows'][number][] = [];
  const logs: AnswerTable['rows'][number][] = [];
  const held: AnswerTable['rows'][number][] = [];
  const all: AnswerTable['rows'][number][] = [];
  for (const device of devices) {
    const names = (yield* allNames('variable', device)) ?? [];
    all.push({
      cells: [device, String(names.filter((name) => !name.includes('$')).length)],
      asks: [{ words: 'all attributes', order: { what: 'attributes', device }, fields: [] }],
    });
    if (names.includes('LLN0$SP$SGCB')) groups.push(yield* groupRow(device));
    const blocks = names.filter((name) => /^[^$]+\$LG\$[^$]+$/.test(name));
    for (const log of yield* logNames(device, blocks)) logs.push(yield* logRow(device, log.name, log.block));
    // By node and object: one may be replaced, held, or both.
    const objects = new Set(names.flatMap((name) => OVERRIDE.exec(name)?.slice(1).filter(Boolean).join('.') ?? []));
    if (objects.size > 0)
      held.push({
        cells: [device, String(objects.size)],
        asks: [{ words: 'show', order: { what: 'replaceable', device }, fields: [] }],
      });
  }
  const tables: AnswerTable[] = [
    { title: 'Setting groups', columns: ['Logical device', 'In use', 'Of', 'Being edited', 'Since'], rows: groups },
    { title: 'Logs', columns: ['Log', 'Is filled', 'Entries', 'Oldest', 'Newest'], rows: logs },
    { title: 'Values that can be replaced or held', columns: ['Logical device', 'Values'], rows: held },
    { title: 'Configuration and descriptions', columns: ['Logical device', 'Nodes'], rows: all },
  ];
  return { tables };
}
/** `GGIO1$SV$Ind1$subEna`, `GGIO1$BL$Ind1$blkEna`. */
const OVERRIDE = /^([^$]+)\$(?:SV\$([^$]+)\$subEna|BL\$([^$]+)\$blkEna)$/;

function* groupRow(device: string): Dialogue<AnswerTable['rows'][number]> {
  const names = ['NumOfSG', 'ActSG', 'EditSG', 'LActTm'];
  const read = yield* readAll(names.map((name) => variable(device, `LLN0$SP$SGCB$${name}`)));
  const [count, active, edited] = read.map(numberIn);
  const stamp = read[3].type === 'utcTime' ? decodeStamp(read[3].octets) : null;
  const most = count ?? 1;
  const group = active ?? 1;
  const field = {
    ...{ path: 'group', title: 'Group', type: 'number' as const },
    limits: [1, most] as [number, number],
  };
  return {
    cells: [
      ...[device, String(active ?? '–'), String(count ?? '–'), edited ? String(edited) : 'none'],
      timeWords(stamp?.ok ? stamp.value.time : null),
    ],
    asks: [
      { words: 'values of a group…', order: { what: 'groupValues', device, group }, fields: [field] },
      { words: 'use another…', order: { what: 'useGroup', device, group }, fields: [field] },
    ],
  };
}

/** Journals, and those that only a control block names; with the block that fills each, where there is one. */
function* logNames(device: string, blocks: readonly string[]): Dialogue<{ name: string; block: string | null }[]> {
  const journals = ((yield* allNames('journal', device)) ?? []).map((name) => `${device}/${name}`);
  const named = yield* readAll(blocks.map((block) => variable(device, `${block}$LogRef`)));
  const byLog = new Map<string, string | null>(journals.map((name) => [name, null] as const));
  named.forEach((reference, at) => {
    if (reference.type === 'text' && reference.text !== '') byLog.set(reference.text, blocks[at]);
  });
  return [...byLog].map(([name, block]) => ({ name, block }));
}

function* logRow(device: string, log: string, block: string | null): Dialogue<AnswerTable['rows'][number]> {
  const slash = log.indexOf('/');
  const [domain, item] = [log.slice(0, slash), log.slice(slash + 1)];
  const status = yield* ask('journalStatus', { name: { scope: 'domain', domain, item } });
  const names = ['LogEna', 'OldEntrTm', 'NewEntrTm'];
  const [enabled, oldest, newest] =
    block === null ? [] : yield* readAll(names.map((name) => variable(device, `${block}$${name}`)));
  return {
    cells: [
      ...[log, block === null ? '–' : yes(enabled) ? 'yes' : 'no', status.ok ? String(status.response.entries) : '–'],
      ...[timeWords(entryTime(oldest)), timeWords(entryTime(newest))],
    ],
    asks: [
      {
        words: 'read…',
        order: { what: 'readLog', log, minutes: 60 },
        fields: [{ path: 'minutes', title: 'Of the last', type: 'number', unit: 'min', limits: [1, MOST_MINUTES] }],
      },
    ],
  };
}
/** A year. */
export const MOST_MINUTES = 527_040;
