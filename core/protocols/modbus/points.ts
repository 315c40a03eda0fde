import { z } from 'zod';
import { octetText } from '../../bytes/index.ts';
import type { PointKind } from '../../point/index.ts';
import type { Result } from '../../session/index.ts';
import type { AtField, AtProblem, Placed, AddressText, PointAddressing } from '../definition.ts';
import { GROUPS, periodOf, type ClientSettings, type Group } from './settings.ts';
import { isFloat, ORDERS, TYPE_LIMITS, TYPES, type Order, type ValueType } from './values.ts';

/** The four tables of the data model (Modbus Application Protocol V1.1b3, 4.3). */
export const TABLES = ['coils', 'discreteInputs', 'inputRegisters', 'holdingRegisters'] as const;
export type Table = (typeof TABLES)[number];

/** `digit`: with which reference numbers of the table begin (common practice). */
export const TABLE_WORDS: Record<Table, { short: string; one: string; digit: string; kinds: readonly PointKind[] }> = {
  coils: { short: 'CO', one: 'coil', digit: '0', kinds: ['output', 'binary'] },
  discreteInputs: { short: 'DI', one: 'discrete input', digit: '1', kinds: ['binary'] },
  inputRegisters: { short: 'IR', one: 'input register', digit: '3', kinds: ['analog', 'counter', 'text', 'binary'] },
  holdingRegisters: {
    short: 'HR',
    one: 'holding register',
    digit: '4',
    kinds: ['analog', 'setpoint', 'counter', 'text', 'binary', 'output'],
  },
};
export const isBitTable = (table: Table): boolean => table === 'coils' || table === 'discreteInputs';

/** Where points of a kind usually are. */
const USUAL_TABLE: Partial<Record<PointKind, Table>> = { binary: 'discreteInputs', output: 'coils' };

const HIGHEST = 65_535;
const LONGEST_TEXT = 60;
const place = z
  .number({ error: 'A point needs an address, a whole number from 0 to 65535' })
  .int('A Modbus address is a whole number')
  .min(0, 'A Modbus address is at least 0')
  .max(HIGHEST, 'A Modbus address is at most 65535');
const types = Object.keys(TYPES) as [ValueType, ...ValueType[]];

/** How the address is written for people: 0-based with the table's letters, or as a reference number. */
export const NOTATIONS = ['zeroBased', 'fiveDigits', 'sixDigits'] as const;

export const pointAtSchema = z.object({
  protocol: z.literal('modbus'),
  table: z.enum(TABLES),
  /** As it goes over the line, from 0. */
  address: place,
  /** Of a register: the bit, 0 the least significant; null: the whole register. */
  bit: z.number().int().min(0, 'A bit is at least 0').max(15, 'A bit is at most 15').nullable().default(null),
  type: z.enum(types).default('uint16'),
  order: z.enum(ORDERS).default('ABCD'),
  /** Registers of a text. */
  registers: z.number().int().min(1).max(LONGEST_TEXT).default(8),
  group: z.union([z.literal(1), z.literal(2), z.literal(3)]).default(1),
  /** Name of a block that is read in one request, never cut; empty: none. */
  block: z
    .string()
    .regex(/^[A-Za-z0-9 _-]{0,16}$/, 'A block has at most 16 letters and digits')
    .default(''),
  written: z.enum(NOTATIONS).default('zeroBased'),
});
export type ModbusAt = z.infer<typeof pointAtSchema>;
export const draftAtSchema = pointAtSchema.extend({ address: place.nullable() });
export type ModbusDraftAt = z.infer<typeof draftAtSchema>;

/** A point as our server offers it. */
export const targetAtSchema = pointAtSchema.pick({
  protocol: true,
  table: true,
  address: true,
  bit: true,
  type: true,
  order: true,
  registers: true,
});
export type ModbusTargetAt = z.infer<typeof targetAtSchema>;

/** A point's place with nothing else said of it. */
export const modbusAt = (table: Table, address: number, more: Partial<ModbusAt> = {}): ModbusAt => ({
  ...pointAtSchema.parse({ protocol: 'modbus', table, address }),
  ...more,
});

const tail = (bit: number | null): string => (bit === null ? '' : `.${bit}`);

/** `HR 107.3`: the table's letters, the address from 0, and of a bit which. */
export const placeWords = ({ table, address, bit }: Pick<ModbusAt, 'table' | 'address' | 'bit'>): string =>
  `${TABLE_WORDS[table].short} ${address}${tail(bit)}`;

/** How many registers, or bits, it takes. */
export const widthOf = ({
  table,
  bit,
  type,
  registers,
}: Pick<ModbusAt, 'table' | 'bit' | 'type' | 'registers'>): number =>
  isBitTable(table) || bit !== null ? 1 : type === 'text' ? registers : TYPES[type];

const BY_DIGIT = new Map(TABLES.map((table) => [TABLE_WORDS[table].digit, table]));
const BY_WORD = new Map(
  TABLES.flatMap((table) => {
    const { short, one } = TABLE_WORDS[table];
    return [short.toLowerCase(), one, `${one}s`].map((word) => [word, table] as const);
  }),
);
export const tableOf = (word: string): Table | undefined => BY_WORD.get(word.trim().toLowerCase());

interface Spot {
  table: Table;
  address: number;
  bit: number | null;
  written: ModbusAt['written'];
}

/**
 * `HR 107`, `HR 107.3`, `holding register 107`; or a reference number, which begins with the digit of its table and
 * counts from 1: `40108` of five digits, `400108` of six.
 */
function readSpot(text: string): Spot | null {
  const words = /^([A-Za-z][A-Za-z ]*?)\s*[: ]?\s*(\d{1,5})(?:\.(\d{1,2}))?$/.exec(text.trim());
  const table = words ? tableOf(words[1]) : undefined;
  if (words && table !== undefined) return spotAt(table, Number(words[2]), words[3], 'zeroBased');
  const digits = /^([0134])(\d{4,5})(?:\.(\d{1,2}))?$/.exec(text.trim());
  const named = digits ? BY_DIGIT.get(digits[1]) : undefined;
  if (!digits || named === undefined) return null;
  return spotAt(named, Number(digits[2]) - 1, digits[3], digits[2].length === 4 ? 'fiveDigits' : 'sixDigits');
}

function spotAt(table: Table, address: number, bit: string | undefined, written: Spot['written']): Spot | null {
  if (address < 0 || address > HIGHEST || Number(bit ?? 0) > 15) return null;
  if (bit !== undefined && isBitTable(table)) return null;
  return { table, address, bit: bit === undefined ? null : Number(bit), written };
}

const print = ({ at: { table, address, bit } }: Placed<ModbusDraftAt | ModbusTargetAt>): string =>
  address === null ? '' : placeWords({ table, address, bit });

/** As its engineer writes it. */
function written(point: Placed<ModbusDraftAt>): string {
  const { table, address, bit, written: notation } = point.at;
  if (address === null) return '';
  const digits = notation === 'fiveDigits' ? 4 : 5;
  // Five digits reach no further than the 9999th.
  if (notation === 'zeroBased' || (digits === 4 && address > 9998)) return print(point);
  return `${TABLE_WORDS[table].digit}${String(address + 1).padStart(digits, '0')}${tail(bit)}`;
}

/** The kind that a point has at a place, its own where that goes. */
const kindAt = (table: Table, bit: number | null, kind?: PointKind): PointKind => {
  const states = isBitTable(table) || bit !== null;
  const kinds = TABLE_WORDS[table].kinds.filter((one) => (one === 'binary' || one === 'output') === states);
  return kind !== undefined && kinds.includes(kind) ? kind : kinds[0];
};

const problem = (words: string): { ok: false; problem: string } => ({ ok: false, problem: words });
const quoted = (text: string): string => `"${text.trim().slice(0, 40)}"`;

function setAddress(point: Placed<ModbusDraftAt>, text: string): Result<Placed<ModbusDraftAt>, string> {
  const { kind, at } = point;
  if (text.trim() === '') return { ok: true, value: { kind, at: { ...at, address: null } } };
  const bare = /^(\d{1,5})(?:\.(\d{1,2}))?$/.exec(text.trim());
  const spot = readSpot(text) ?? (bare ? spotAt(at.table, Number(bare[1]), bare[2], 'zeroBased') : null);
  if (spot === null)
    return problem(
      `${quoted(text)} is no address such as HR 107, HR 107.3, 40108 or 400108 (0 to 65535, bits 0 to 15)`,
    );
  return { ok: true, value: { kind: kindAt(spot.table, spot.bit, kind), at: { ...at, ...spot } } };
}

const choice = <Value extends string>(
  key: string,
  of: keyof ModbusDraftAt & string,
  title: string,
  help: string,
  aliases: readonly string[],
  values: readonly Value[],
  read: (text: string) => Value | undefined = (text) => values.find((one) => one.toLowerCase() === text),
): AtField<ModbusDraftAt> => ({
  key,
  title,
  help,
  aliases,
  choices: values,
  // A bit has no form.
  text: ({ at }) => (isBitTable(at.table) || at.bit !== null ? '' : String(at[of])),
  set: ({ at }, text) => {
    if (text.trim() === '') return { ok: true, value: at };
    const value = read(text.trim().toLowerCase());
    return value === undefined ? problem(`${quoted(text)} is not ${values.join(', ')}`) : changed(at, { [of]: value });
  },
});

function changed(at: ModbusDraftAt, change: Partial<ModbusDraftAt>): Result<ModbusDraftAt, string> {
  const read = draftAtSchema.safeParse({ ...at, ...change });
  return read.success ? { ok: true, value: read.data } : problem(read.error.issues[0].message);
}

/** Other words for types and orders that lists use (common practice). */
const TYPE_ALIASES: Partial<Record<string, ValueType>> = {
  word: 'uint16',
  uint: 'uint16',
  ushort: 'uint16',
  u16: 'uint16',
  int: 'int16',
  short: 'int16',
  s16: 'int16',
  i16: 'int16',
  dword: 'uint32',
  udint: 'uint32',
  u32: 'uint32',
  dint: 'int32',
  s32: 'int32',
  i32: 'int32',
  u64: 'uint64',
  s64: 'int64',
  i64: 'int64',
  float: 'float32',
  real: 'float32',
  f32: 'float32',
  single: 'float32',
  double: 'float64',
  lreal: 'float64',
  f64: 'float64',
  bcd: 'bcd16',
  string: 'text',
  ascii: 'text',
  'unix time': 'time32',
};
const ORDER_ALIASES: Partial<Record<string, Order>> = {
  'big endian': 'ABCD',
  'little endian': 'DCBA',
  'word swap': 'CDAB',
  'word swapped': 'CDAB',
  'byte swap': 'BADC',
  'byte swapped': 'BADC',
};

const TYPE_HELP = `of registers: ${types.join(', ')}`;
const shownGroup = (group: Group): string => String(group);

const fields: readonly AtField<ModbusDraftAt>[] = [
  {
    ...choice(
      'table',
      'table',
      'Table',
      'coil, discrete input, input register, holding register',
      ['register type', 'area', 'memory area'],
      TABLES,
    ),
    choices: TABLES.map((table) => TABLE_WORDS[table].one),
    text: ({ at }) => TABLE_WORDS[at.table].one,
    set: ({ at }, text) => {
      const table = tableOf(text);
      if (table === undefined)
        return problem(`${quoted(text)} is not coil, discrete input, input register or holding register`);
      return changed(at, { table, bit: isBitTable(table) ? null : at.bit });
    },
  },
  choice('form', 'type', 'Form', TYPE_HELP, ['data type', 'value type', 'format', 'encoding'], types, (text) => {
    return types.find((one) => one === text) ?? TYPE_ALIASES[text];
  }),
  choice(
    'order',
    'order',
    'Octet order',
    'ABCD as it is, CDAB registers turned, BADC octets turned, DCBA both',
    ['byte order', 'word order', 'endianness', 'swap'],
    ORDERS,
    (text) => ORDERS.find((one) => one.toLowerCase() === text) ?? ORDER_ALIASES[text],
  ),
  {
    key: 'registers',
    title: 'Registers of a text',
    help: `1 to ${LONGEST_TEXT}, two characters each`,
    aliases: ['length', 'string length'],
    numeric: true,
    text: ({ at }) => (at.type === 'text' ? String(at.registers) : ''),
    set: ({ at }, text) => (text.trim() === '' ? { ok: true, value: at } : changed(at, { registers: Number(text) })),
  },
  {
    key: 'group',
    title: 'Poll group',
    help: '1 to 3, each with a period of its own',
    aliases: ['scan group', 'scan class', 'rate'],
    numeric: true,
    choices: GROUPS.map(shownGroup),
    text: ({ at }) => shownGroup(at.group),
    set: ({ at }, text) => {
      const group = GROUPS.find((one) => String(one) === text.trim());
      return group === undefined ? problem(`${quoted(text)} is not 1, 2 or 3`) : changed(at, { group });
    },
  },
  {
    key: 'block',
    title: 'Read whole with',
    help: 'name of a block that is read in one request; empty: none',
    aliases: ['block', 'read block'],
    text: ({ at }) => at.block,
    set: ({ at }, text) => changed(at, { block: text.trim() }),
  },
];

function check({ kind, at }: Placed<ModbusDraftAt>, settings: ClientSettings | null): AtProblem[] {
  const problems: AtProblem[] = [];
  const report = (severity: AtProblem['severity'], field: string, words: string): void =>
    void problems.push({ severity, field, words });
  const { table, address, bit, type, group } = at;
  const { one, kinds } = TABLE_WORDS[table];
  const states = kind === 'binary' || kind === 'output';
  if (!kinds.includes(kind)) report('problem', 'kind', `a ${one} cannot be that kind`);
  else if (!isBitTable(table) && states && bit === null)
    report('problem', 'index', 'a state in a register needs its bit: HR 107.3');
  else if (!states && bit !== null) report('problem', 'index', 'a bit of a register is a state');
  if ((kind === 'text') !== (type === 'text' || type === 'time32') && !states && !isBitTable(table) && kind === 'text')
    report('problem', 'form', 'a text has the form text or time32');
  if (type === 'text' && kind !== 'text' && !states) report('problem', 'form', 'only a text has the form text');
  if (address !== null && address + widthOf(at) - 1 > HIGHEST)
    report('problem', 'index', `it takes ${widthOf(at)} registers and goes beyond 65535`);
  if (settings !== null && periodOf(settings, group) === 0)
    report('warning', 'group', `group ${group} is not polled: it is never read`);
  return problems;
}

const DEFAULTS = {
  bit: null,
  type: 'uint16',
  order: 'ABCD',
  registers: 8,
  group: 1,
  block: '',
  written: 'zeroBased',
} as const;

export const address: AddressText<ModbusDraftAt | ModbusTargetAt> = {
  print,
  sort: ({ at: { table, address, bit } }) =>
    `${TABLES.indexOf(table)} ${address === null ? '~' : String(address).padStart(5, '0')} ${bit === null ? '' : String(bit).padStart(2, '0')}`,
};

export const points: PointAddressing<ModbusAt, ModbusDraftAt, ClientSettings> = {
  at: pointAtSchema,
  draftAt: draftAtSchema,
  kinds: ['binary', 'output', 'analog', 'counter', 'setpoint', 'text'],
  defaults: DEFAULTS,
  // What is polled each second is no event each second.
  history: 'deadband',
  outputShows: true,
  blank: (kind) => ({
    ...DEFAULTS,
    protocol: 'modbus',
    table: USUAL_TABLE[kind] ?? 'holdingRegisters',
    address: null,
    type: kind === 'text' ? 'text' : 'uint16',
  }),
  parse: (text) => {
    const spot = readSpot(text);
    if (spot === null) return null;
    const kind = kindAt(spot.table, spot.bit);
    return { kind, at: { ...pointAtSchema.parse({ protocol: 'modbus', ...spot }) } };
  },
  cell: {
    key: 'index',
    title: 'Address',
    help: 'HR 107 counts from 0; 40108 and 400108 are reference numbers, which count from 1',
    aliases: ['register', 'modbus address', 'register address', 'register number', 'offset'],
    text: written,
    set: setAddress,
  },
  isNumbered: true,
  series: ({ at }) => at.table,
  number: ({ address }) => address,
  withNumber: (at, address) => ({ ...at, address }),
  width: ({ at }) => widthOf(at),
  highest: HIGHEST,
  fields,
  check,
  sendable: ({ kind, at: { type, bit, table } }, counts) => {
    if (kind !== 'setpoint' || isBitTable(table) || bit !== null || type === 'text')
      return problem('it is not a number that can be set');
    const value = isFloat(type) ? counts : Math.round(counts);
    const [low, high] = TYPE_LIMITS[type];
    return value >= low && value <= high
      ? { ok: true, value }
      : problem(`${value} counts do not fit ${type}, which holds ${low} to ${high}`);
  },
  writable: ({ at: { table, type, registers } }, text) =>
    table !== 'holdingRegisters' || type !== 'text'
      ? problem('only a text in holding registers can be written')
      : octetText(text, registers * 2, false),
  form: ({ at: { type, order } }) => (TYPES[type] > 1 ? `${type} ${order}` : type),
};
