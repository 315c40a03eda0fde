import { z } from 'zod';
import { addressOf, definitionOf, readAddress, type ProtocolCode, pointsOf } from '../protocols/index.ts';
import { mappingSchema, type Configuration, type MappingConfig, type OutboundConfig } from '../config/index.ts';
import { newPoint, readTable } from '../pointlist/index.ts';
import { KIND_WORDS, kindOf, POINT_KINDS } from '../point/index.ts';
import type { DraftPoint } from '../config/index.ts';
import type { Result } from '../session/index.ts';
import { agreementWith, headingsOf } from './agreement.ts';

/*
 * An agreement as a file, ours or the other party's: JSON (`halvix.agreement`, docs/formats.md), or a table as the
 * agreement's own sheet is, CSV or the rows of a workbook. What is given in their file is what we get.
 */

/** One point of one direction, by the address by which whoever gets it asks for it. */
const entrySchema = z.object({
  address: z.string().max(200),
  kind: z.enum(POINT_KINDS).nullable().catch(null),
  name: z.string().max(200).default(''),
  unit: z.string().max(32).default(''),
  states: z.array(z.string().max(80)).max(16).nullable().default(null),
  operated: z.boolean().default(false),
  /** Of a file of ours: which of our points it is, and how it is offered. */
  mapping: mappingSchema.nullable().catch(null).default(null),
});
export type AgreedPoint = z.infer<typeof entrySchema>;
const fileSchema = z.object({
  schema: z.literal('halvix.agreement', { error: 'it is no agreement: its schema is another one' }),
  version: z.literal(1, { error: 'its version is another one than 1' }),
  /** Who has made it, and with whom the agreement is. */
  by: z.string().max(200),
  with: z.string().max(200),
  protocol: z.string().max(40),
  given: z.array(entrySchema).max(100_000, 'more than 100000 points are given'),
  got: z.array(entrySchema).max(100_000, 'more than 100000 points are got'),
});

/** What a file says, seen from whoever made it. */
export interface AgreedFile {
  by: string;
  given: AgreedPoint[];
  got: AgreedPoint[];
}

/** The agreement as JSON. */
export function agreementDocument(
  outbound: OutboundConfig,
  configuration: Pick<Configuration, 'devices' | 'links' | 'network'>,
): string {
  const agreement = agreementWith(outbound, configuration);
  const { mappings } = outbound;
  const entries = (rows: readonly string[][], of: readonly (MappingConfig | null)[]): AgreedPoint[] =>
    entriesOf(rows).map((entry, at) => ({ ...entry, mapping: of[at] ?? null }));
  const known = new Set(
    configuration.devices.flatMap(({ code, points }) => points.map((p) => `${code} ${addressOf(p)}`)),
  );
  const told = mappings.filter(({ device, point }) => known.has(`${device} ${point}`));
  const document: z.infer<typeof fileSchema> = {
    ...{ schema: 'halvix.agreement', version: 1, by: configuration.network, with: agreement.party },
    protocol: outbound.protocol,
    given: entries(agreement.given, told),
    got: entries(agreement.got, []),
  };
  return `${JSON.stringify(document, null, 2)}\n`;
}

/** Reads what a person has chosen: JSON, or a table in text. */
export function readAgreement(text: string): Result<AgreedFile, string> {
  if (!text.trimStart().startsWith('{')) {
    const table = readTable(text);
    return table.ok ? agreementOfRows(table.value.rows) : table;
  }
  let json: unknown;
  try {
    json = JSON.parse(text);
  } catch {
    return { ok: false, problem: 'it begins as JSON and is none' };
  }
  const read = fileSchema.safeParse(json);
  if (read.success) return { ok: true, value: read.data };
  const [{ path, message }] = read.error.issues;
  return { ok: false, problem: path.length === 0 ? message : `${path.join('.')}: ${message}` };
}

const GIVES = /^we give (.+)$/i;
const GETS = /^(.+) gives us$/i;

/**
 * The rows of a sheet: each direction begins with its title (`We give X`, `X gives us`) and its headings. Rows without
 * any title are what is given.
 */
export function agreementOfRows(rows: readonly (readonly string[])[]): Result<AgreedFile, string> {
  const sections: { given: string[][]; got: string[][] } = { given: [], got: [] };
  let into: string[][] | null = null;
  let [other, titled] = ['', false];
  for (const row of rows) {
    const first = (row[0] ?? '').trim();
    const [gives, gets] = [GIVES.exec(first), GETS.exec(first)];
    if (gives ?? gets) {
      [other, titled] = [(gives ?? gets)?.[1] ?? '', true];
      into = gives ? sections.given : sections.got;
    } else if (row.every((cell) => cell.trim() === '')) into = null;
    else if (into !== null) into.push([...row]);
    else if (!titled && headingsOf(row).address !== undefined) {
      into = sections.given;
      into.push([...row]);
    }
  }
  const value = { by: '', given: entriesOf(sections.given), got: entriesOf(sections.got) };
  if (value.given.length + value.got.length === 0)
    return { ok: false, problem: 'there is no list in it: a list has a row of headings, one of them “Address”' };
  return { ok: true, value: { ...value, by: titled ? `not ${other}` : '' } };
}

/** Rows with their headings first, as points. */
function entriesOf(rows: readonly (readonly string[])[]): AgreedPoint[] {
  const [head, ...rest] = rows;
  if (head === undefined) return [];
  const at = headingsOf(head);
  const cell = (row: readonly string[], column: number | undefined): string =>
    column === undefined ? '' : (row[column] ?? '').trim();
  return rest.flatMap((row): AgreedPoint[] => {
    const address = cell(row, at.address);
    if (address === '') return [];
    const states = cell(row, at.states);
    return [
      {
        ...{ address, kind: kindOf(cell(row, at.kind)) ?? null, name: cell(row, at.name), unit: cell(row, at.unit) },
        states: states.includes(' / ') ? states.split(' / ') : null,
        operated: /control/i.test(cell(row, at.direction)),
        mapping: null,
      },
    ];
  });
}
/** Whose file it is: ours, theirs, or nobody can tell. */
export function madeBy({ by }: AgreedFile, network: string, party: string): 'us' | 'them' | null {
  if (by === network || by === `not ${party}`) return 'us';
  return by === party || by === `not ${network}` ? 'them' : null;
}

/** A file against what is drafted; everything seen from us. */
export interface AgreementComparison {
  /** What they give and our list lacks, as points of it; or why one cannot be one. */
  missing: { entry: AgreedPoint; point: DraftPoint | null; problem: string }[];
  /** What is otherwise in our list. */
  different: { address: string; what: string; here: string; there: string }[];
  /** What our list has and they do not give. */
  extra: string[];
  /** What they want and we do not offer; `mapping`: how a file of ours offers it. */
  wanted: { entry: AgreedPoint; mapping: MappingConfig | null }[];
  /** What we offer and they do not want. */
  unwanted: string[];
}

/** `ours`: the file is ours, so that what it gives is what we give. */
export function compareAgreement(
  file: AgreedFile,
  ours: boolean,
  outbound: OutboundConfig,
  configuration: Pick<Configuration, 'devices' | 'links'>,
): AgreementComparison {
  const agreement = agreementWith(outbound, configuration);
  // A list may name a point twice: the first time counts.
  const [theirs, wished] = (ours ? [file.got, file.given] : [file.given, file.got]).map(eachOnce);
  const listed = new Map(entriesOf(agreement.got).map((entry) => [entry.address, entry]));
  const offered = new Map(entriesOf(agreement.given).map((entry) => [entry.address, entry]));
  const protocol =
    configuration.devices.find(({ code }) => code === agreement.devices[0])?.protocol ?? outbound.protocol;
  const prefixes = [...agreement.devices, outbound.centre];
  const missing: AgreementComparison['missing'] = [];
  const different: AgreementComparison['different'] = [];
  for (const entry of theirs) {
    const here = listed.get(entry.address);
    if (here === undefined) missing.push({ entry, ...pointOf(entry, protocol, prefixes) });
    else
      for (const [what, own, other] of [
        ['Kind', here.kind, entry.kind],
        ['Unit', here.unit, entry.unit],
        ['States', here.states?.join(' / '), entry.states?.join(' / ')],
      ] as const)
        if (other && own !== other) different.push({ address: entry.address, what, here: own ?? '', there: other });
  }
  const has = (entries: readonly AgreedPoint[]): Set<string> => new Set(entries.map(({ address }) => address));
  const [given, wishedFor] = [has(theirs), has(wished)];
  return {
    missing,
    different,
    extra: theirs.length === 0 ? [] : [...listed.keys()].filter((address) => !given.has(address)),
    wanted: wished
      .filter(({ address }) => !offered.has(address))
      .map((entry) => ({ entry, mapping: ours ? entry.mapping : null })),
    unwanted: wished.length === 0 ? [] : [...offered.keys()].filter((address) => !wishedFor.has(address)),
  };
}

const eachOnce = (entries: readonly AgreedPoint[]): AgreedPoint[] =>
  [...new Map(entries.toReversed().map((entry) => [entry.address, entry])).values()].reverse();

/** What they give as a point of our list, named without the name of the device it is of. */
function pointOf(
  entry: AgreedPoint,
  protocol: ProtocolCode,
  prefixes: readonly string[],
): { point: DraftPoint | null; problem: string } {
  const read = readAddress(protocol, entry.address);
  if (read === null)
    return {
      point: null,
      problem: `${entry.address.slice(0, 60)} is no address of ${definitionOf(protocol).words.name}`,
    };
  const prefix = prefixes.find((one) => entry.name.startsWith(`${one} `));
  const name = (prefix === undefined ? entry.name : entry.name.slice(prefix.length + 1)).trim() || entry.address;
  const kind = entry.kind ?? read.kind;
  const { kinds } = pointsOf(protocol);
  if (!kinds.includes(kind)) return { point: null, problem: `there is no ${KIND_WORDS[kind].one} there` };
  const point = {
    ...newPoint(protocol, kind, null, name.slice(0, 80)),
    ...{ at: read.at, unit: entry.unit.slice(0, 16) },
    ...(entry.states && kind !== 'output' ? { states: entry.states.slice(0, kind === 'doubleBit' ? 4 : 2) } : {}),
  } as DraftPoint;
  return { point, problem: '' };
}
