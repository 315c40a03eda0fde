import Papa from 'papaparse';
import { sameDocument, type DraftPoint } from '../config/index.ts';
import {
  addressOf,
  FIRST_PROTOCOL,
  DEVICE_PROTOCOLS,
  readAddress,
  type ProtocolCode,
  pointsOf,
} from '../protocols/index.ts';
import { kindOf, type PointKind } from '../point/index.ts';
import type { Result } from '../session/index.ts';
import { fieldOfHeading, newPoint, POINT_FIELDS, pointField, shortened, type PointField } from './fields/index.ts';

/** Rows of a table from outside: what a spreadsheet puts on the clipboard, or a file. */
export interface Table {
  /** Cells as text, the heading among them when there is one. */
  rows: string[][];
  hasHeading: boolean;
  /** Field key of each column (`device` among them); null: not used. */
  columns: (string | null)[];
}

export const MAX_ROWS = 100_000;
const MAX_OCTETS = 64 * 1024 * 1024;

/** Reads the octets of a text file: UTF-8, with or without its mark, or UTF-16 with its mark. */
export function decodeText(octets: Uint8Array): Result<string, string> {
  if (octets.length > MAX_OCTETS)
    return { ok: false, problem: `the file has ${octets.length} octets; at most ${MAX_OCTETS} are read` };
  const mark =
    octets[0] === 0xff && octets[1] === 0xfe
      ? 'utf-16le'
      : octets[0] === 0xfe && octets[1] === 0xff
        ? 'utf-16be'
        : 'utf-8';
  try {
    return { ok: true, value: new TextDecoder(mark, { fatal: true }).decode(octets) };
  } catch {
    const at = firstBadOctet(octets);
    const row = octets.subarray(0, at).filter((octet) => octet === 10).length + 1;
    return {
      ok: false,
      problem: `row ${row}: octet 0x${octets[at]?.toString(16)} is not UTF-8: save the file as CSV in UTF-8`,
    };
  }
}

/** Where UTF-8 breaks: found by halving. */
function firstBadOctet(octets: Uint8Array): number {
  let [good, bad] = [0, octets.length];
  while (bad - good > 1) {
    const middle = (good + bad) >> 1;
    try {
      new TextDecoder('utf-8', { fatal: true }).decode(octets.subarray(0, middle), { stream: true });
      good = middle;
    } catch {
      bad = middle;
    }
  }
  // A sequence that was begun breaks at the octet after it: the one before is the culprit.
  return octets[good] < 0x80 && good > 0 && octets[good - 1] >= 0x80 ? good - 1 : good;
}

/** Splits text into rows and cells: tab-separated when there is a tab, else by semicolon or comma. */
export function readTable(text: string): Result<Table, string> {
  if (text.includes('\u0000')) return { ok: false, problem: 'the text has NUL characters: this is no text file' };
  const head = text.slice(0, text.indexOf('\n') < 0 ? 10_000 : text.indexOf('\n'));
  const delimiter = text.slice(0, 100_000).includes('\t') ? '\t' : head.includes(';') ? ';' : ',';
  const parsed = Papa.parse<string[]>(text, { delimiter, skipEmptyLines: 'greedy', preview: MAX_ROWS + 2 });
  const quotes = parsed.errors.find(({ type }) => type === 'Quotes');
  if (quotes) return { ok: false, problem: `row ${(quotes.row ?? 0) + 1}: a quotation mark is not closed` };
  return tableOf(parsed.data.map((row) => row.map(undefused)));
}

/** A table of rows that are split already; finds the heading and what each column is. */
export function tableOf(rows: string[][]): Result<Table, string> {
  if (rows.length > MAX_ROWS + 1) return { ok: false, problem: `there are more than ${MAX_ROWS} rows` };
  if (rows.length === 0) return { ok: false, problem: 'there is no row' };
  const headings = rows[0].map(fieldOfHeading);
  const known = headings.filter((key) => key !== undefined).length;
  const hasHeading = known >= 2 || (known === 1 && rows[0].length === 1 && rows.length > 1);
  const width = rows.slice(0, 200).reduce((most, row) => Math.max(most, row.length), 0);
  const columns: (string | null)[] = hasHeading
    ? Array.from({ length: width }, (_, i) => headings[i] ?? null)
    : guessed(rows.slice(0, 200), width);
  const seen = new Set<string>();
  return {
    ok: true,
    value: {
      rows,
      hasHeading,
      columns: columns.map((key) => {
        if (key === null || seen.has(key)) return null;
        seen.add(key);
        return key;
      }),
    },
  };
}

/** What the columns of a table without heading are, by what stands in them. */
function guessed(rows: readonly string[][], width: number): (string | null)[] {
  const taken = new Set<string>();
  return Array.from({ length: width }, (_, column) => {
    const cells = rows.map((row) => (row[column] ?? '').trim()).filter((cell) => cell !== '');
    const all = (test: (cell: string) => boolean): boolean => cells.length > 0 && cells.every(test);
    const guess = all((cell) => kindOf(cell) !== undefined)
      ? 'kind'
      : all((cell) => DEVICE_PROTOCOLS.some((protocol) => readAddress(protocol, cell) !== null))
        ? 'index'
        : all((cell) => /^\d{1,5}$/.test(cell))
          ? 'index'
          : all((cell) => !Number.isFinite(Number(cell)))
            ? taken.has('name')
              ? 'unit'
              : 'name'
            : all((cell) => Number.isFinite(Number(cell)))
              ? 'gain'
              : null;
    if (guess === null || taken.has(guess)) return null;
    taken.add(guess);
    return guess;
  });
}

export interface CellProblem {
  /** Row of the table as people count: the first line is 1. */
  row: number;
  column: string;
  value: string;
  words: string;
}

export type RowState = 'new' | 'changed' | 'same' | 'wrong';

export interface PreviewRow {
  /** As people count: the first line is 1. */
  row: number;
  state: RowState;
  device: string;
  point: DraftPoint;
  /** The place of the point that it changes in what was given as known. */
  known: number | null;
  problems: CellProblem[];
}

export interface PreviewContext {
  /** Device of rows that name none. */
  device: string | null;
  /** Kind of rows that name none. */
  kind: PointKind;
  /** Devices that there are, with their protocols. */
  devices: ReadonlyMap<string, ProtocolCode>;
  known: readonly { device: string; point: DraftPoint }[];
}

export interface Preview {
  rows: PreviewRow[];
  counts: Record<RowState, number>;
  problems: CellProblem[];
}

/** The addresses that a table names, as text: which known points it may concern. */
export function addressesIn(table: Table, kind: PointKind, protocols: readonly ProtocolCode[]): Set<string> {
  const [kindColumn, indexColumn] = [table.columns.indexOf('kind'), table.columns.indexOf('index')];
  const addresses = new Set<string>();
  for (const cells of table.rows) {
    const own = (kindColumn >= 0 && kindOf(cells[kindColumn] ?? '')) || kind;
    for (const protocol of protocols) {
      const set = pointField('index').set(newPoint(protocol, own, null, '-'), cells[indexColumn] ?? '');
      if (set.ok) addresses.add(addressOf(set.value));
    }
  }
  return addresses;
}

/** What taking over a table would do, row by row. Nothing is changed. */
export function previewTable(table: Table, context: PreviewContext): Preview {
  const { devices } = context;
  const knownAt = new Map<string, number>();
  const nextFree = new Map<string, number>();
  const note = (device: string, point: DraftPoint, place: number | null): void => {
    const { number, series, width } = pointsOf(point.at.protocol);
    const own = number(point.at);
    if (own === null) return;
    if (place !== null) knownAt.set(`${device} ${addressOf(point)}`, place);
    const key = `${device} ${series(point)}`;
    nextFree.set(key, Math.max(nextFree.get(key) ?? 0, own + width(point)));
  };
  context.known.forEach(({ device, point }, at) => note(device, point, at));
  const used = table.columns.flatMap((key, column) => (key === null || key === 'device' ? [] : [{ key, column }]));
  // The kind first, then what its protocol says of it: what the other cells mean depends on them.
  const rank = ({ key, field }: { key: string; field: Pick<PointField, 'protocols'> }): number =>
    key === 'kind' ? 0 : field.protocols !== undefined ? 1 : key === 'index' ? 2 : key === 'operations' ? 3 : 4;
  const ordered = used.map((one) => ({ ...one, field: pointField(one.key) })).sort((a, b) => rank(a) - rank(b));
  const deviceColumn = table.columns.indexOf('device');
  const hasIndex = table.columns.includes('index');
  const seen = new Map<string, number>();
  const preview: Preview = { rows: [], counts: { new: 0, changed: 0, same: 0, wrong: 0 }, problems: [] };

  for (let at = table.hasHeading ? 1 : 0; at < table.rows.length; at++) {
    const cells = table.rows[at];
    const row = at + 1;
    const problems: CellProblem[] = [];
    const blame = (column: string, value: string, words: string): void =>
      void problems.push({ row, column, value: shortened(value), words });
    const device = deviceColumn >= 0 ? (cells[deviceColumn] ?? '').trim() : (context.device ?? '');
    if (!devices.has(device)) blame('Device', device, device ? 'there is no such device' : 'no device is named');

    // Kind and address say which point it is; only then it is known what the other cells change.
    const protocol = devices.get(device) ?? FIRST_PROTOCOL;
    let point = newPoint(protocol, context.kind, null, '-');
    for (const { key, column, field } of ordered) {
      const places = field.protocols !== undefined;
      if (key !== 'kind' && key !== 'index' && !places) continue;
      const text = cells[column] ?? '';
      if (key !== 'index' && text.trim() === '') continue;
      if (key === 'kind') {
        const kind = kindOf(text);
        if (kind !== undefined) point = newPoint(protocol, kind, null, '-');
      }
      const set = field.set(point, text);
      if (set.ok) point = set.value;
      else blame(field.title, text, set.problem);
    }
    const { isNumbered, number, series, withNumber } = pointsOf(protocol);
    if (isNumbered && !hasIndex && number(point.at) === null)
      point = { ...point, at: withNumber(point.at, nextFree.get(`${device} ${series(point)}`) ?? 0) };
    const own = addressOf(point);
    if (own === '' && problems.length === 0) blame('Address', '', 'it has no address');
    const address = `${device} ${own}`;
    const known = own === '' ? undefined : knownAt.get(address);
    const before = known === undefined ? point : context.known[known].point;
    let next = before;
    for (const { key, column, field } of ordered) {
      if (key === 'kind' || key === 'index' || (known === undefined && field.protocols !== undefined)) continue;
      let text = cells[column];
      if (text === undefined || (text === '' && known === undefined)) continue;
      // A name with its device before it, unless the point is called so.
      const isWhole = known !== undefined && next.name === text.trim();
      if (key === 'name' && !isWhole && device !== '' && text.startsWith(`${device} `))
        text = text.slice(device.length + 1);
      // An empty cell of the pair columns beside a gain says nothing.
      if (text.trim() === '' && field.text(next) === '') continue;
      if (known !== undefined && field.text(next) === text.trim()) continue;
      const set = field.set(next, text);
      if (set.ok) next = set.value;
      else blame(field.title, text, set.problem);
    }
    if (next.name === '-' && problems.length === 0) blame('Name', '', 'it has no name');
    if (own !== '') {
      const twin = seen.get(address);
      if (twin !== undefined) blame('Address', own, `row ${twin} has this address too`);
      else seen.set(address, row);
      note(device, point, null);
    }
    const state: RowState =
      problems.length > 0
        ? 'wrong'
        : known === undefined
          ? 'new'
          : next === before || sameDocument(next, before)
            ? 'same'
            : 'changed';
    preview.counts[state]++;
    if (preview.problems.length < 1000) preview.problems.push(...problems);
    preview.rows.push({ row, state, device, point: next, known: known ?? null, problems });
  }
  return preview;
}

/** The whole list as rows with a heading: every field, and the name with the device's in front. */
export function tableOfPoints(points: readonly { device: string; point: DraftPoint }[]): string[][] {
  const fields = POINT_FIELDS;
  return [
    ['Device', ...fields.map(({ title }) => title), 'Full name'],
    ...points.map(({ device, point }) => [
      device,
      ...fields.map((field) => field.text(point)),
      `${device} ${point.name}`,
    ]),
  ];
}

/**
 * What makes a spreadsheet take a cell for a formula, which is anything behind a sign but a number; apostrophes before it are
 * those of a text that has been defused.
 */
const FORMULA_START = /^'*(?:[=@\t\r]|[+-](?!(?:\d+(?:[.,]\d*)?|[.,]\d+)(?:e[+-]?\d+)?$))/i;
const undefused = (cell: string): string => (/^'/.test(cell) && FORMULA_START.test(cell) ? cell.slice(1) : cell);

/** CSV after RFC 4180. A text that a spreadsheet would run gets an apostrophe in front, which `readTable` takes off. */
export const csvOf = (rows: readonly (readonly string[])[]): string =>
  Papa.unparse(
    rows.map((row) => row.map((cell) => (FORMULA_START.test(cell) ? `'${cell}` : cell))),
    { newline: '\r\n' },
  );
