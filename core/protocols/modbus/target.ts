import { KIND_WORDS, type PointKind, type ScaledPoint } from '../../point/index.ts';
import type { Offered, TargetAddressing } from '../definition.ts';
import { isBitTable, TABLES, TABLE_WORDS, targetAtSchema, widthOf, type ModbusTargetAt, type Table } from './points.ts';
import { isFloat, ORDERS, TYPE_LIMITS, TYPES, type Order, type ValueType } from './values.ts';

/** Where points of a kind are offered, unless a rule says otherwise. */
const USUAL_TABLE: Record<PointKind, Table> = {
  binary: 'discreteInputs',
  output: 'coils',
  doubleBit: 'inputRegisters',
  analog: 'inputRegisters',
  counter: 'inputRegisters',
  frozenCounter: 'inputRegisters',
  setpoint: 'holdingRegisters',
  text: 'inputRegisters',
};

/** Forms that hold what a point may have (common practice): raw counts of 32 bits, engineering values as floats. */
const USUAL_TYPE: Record<PointKind, ValueType> = {
  binary: 'uint16',
  output: 'uint16',
  doubleBit: 'uint16',
  analog: 'int32',
  counter: 'uint32',
  frozenCounter: 'uint32',
  setpoint: 'int32',
  text: 'text',
};

const types = Object.keys(TYPES) as ValueType[];
const typeChoices = types.map((type) => [type, type] as const);
const orderChoices = ORDERS.map((order) => [order, order] as const);
const hasRegisters = (target: unknown): boolean => !isBitTable((target as Offered<ModbusTargetAt>).at.table);

function propose(
  kind: PointKind,
  address: number,
  value: 'raw' | 'engineering',
  { numbers, form, order }: Readonly<Record<string, string>>,
): ModbusTargetAt {
  const usual = USUAL_TABLE[kind];
  const table = numbers === 'holdingRegisters' && usual === 'inputRegisters' ? 'holdingRegisters' : usual;
  const chosen = types.find((one) => one === form);
  const isNumber = kind !== 'text' && kind !== 'doubleBit';
  const own = value === 'engineering' && isNumber ? 'float32' : USUAL_TYPE[kind];
  return targetAtSchema.parse({
    ...{ protocol: 'modbus', table, address },
    type: isBitTable(table) ? 'uint16' : isNumber && chosen !== undefined && chosen !== 'text' ? chosen : own,
    order: (ORDERS.find((one) => one === order) ?? 'ABCD') satisfies Order,
    registers: 16,
  });
}

function misfit({ pairs }: ScaledPoint, { kind, at, value }: Offered<ModbusTargetAt>): string | null {
  const { type, table } = at;
  if (isBitTable(table) || type === 'text' || isFloat(type) || pairs === null || kind === 'text') return null;
  const [low, high] = value === 'engineering' ? [pairs.low, pairs.high] : [pairs.rawLow, pairs.rawHigh];
  const [bottom, top] = [Math.min(low, high), Math.max(low, high)];
  const limits = TYPE_LIMITS[type];
  if (bottom < limits[0] || top > limits[1])
    return `its range ${bottom} to ${top} does not fit ${type}, which holds ${limits[0]} to ${limits[1]}`;
  if (value === 'engineering' && top - bottom < 100)
    return `whole numbers of a range from ${bottom} to ${top} are coarse: choose a float`;
  return null;
}

function problems({ kind, at }: Pick<Offered<ModbusTargetAt>, 'kind' | 'at'>): string[] {
  const { table, bit, type, address } = at;
  const states = kind === 'binary' || kind === 'output';
  const found: string[] = [];
  const { one } = TABLE_WORDS[table];
  if (isBitTable(table) && !states) found.push(`a ${KIND_WORDS[kind].one} is no ${one}`);
  if (kind === 'output' && (table === 'discreteInputs' || table === 'inputRegisters'))
    found.push(`a control cannot be a ${one}: nobody could write it`);
  if (kind === 'setpoint' && table !== 'holdingRegisters') found.push(`a setpoint is a holding register, no ${one}`);
  if (isBitTable(table) && bit !== null) found.push(`a ${one} has no bits`);
  if ((kind === 'text') !== (type === 'text') && !isBitTable(table) && bit === null)
    found.push(kind === 'text' ? 'a text has the form text' : 'only a text has the form text');
  if (address + widthOf(at) > 0x1_0000) found.push(`it takes ${widthOf(at)} registers and goes beyond 65535`);
  return found;
}

export const targets: TargetAddressing<ModbusTargetAt, unknown> = {
  at: targetAtSchema,
  series: ({ at }) => at.table,
  number: ({ address }) => address,
  width: ({ at }) => widthOf(at),
  highest: 65_535,
  propose,
  ruleFields: [
    {
      path: 'numbers',
      title: 'Numbers that are only read',
      type: 'choice',
      choices: [
        ['inputRegisters', 'as input registers'],
        ['holdingRegisters', 'as holding registers'],
      ],
    },
    {
      path: 'form',
      title: 'Form',
      type: 'choice',
      choices: [['usual', 'usual: raw 32 bits, units as float32'], ...typeChoices.filter(([type]) => type !== 'text')],
    },
    { path: 'order', title: 'Octet order', type: 'choice', choices: orderChoices },
  ],
  misfit,
  problems,
  words: ({ at: { table, bit, type, order } }) => {
    const { one } = TABLE_WORDS[table];
    if (isBitTable(table)) return one;
    return bit === null ? `${one}, ${type}${TYPES[type] > 1 ? ` ${order}` : ''}` : `bit of a ${one}`;
  },
  fields: [
    {
      path: 'table',
      title: 'Table',
      type: 'choice',
      choices: TABLES.map((table) => [table, TABLE_WORDS[table].one] as const),
    },
    { path: 'address', title: 'Address there, from 0', type: 'number', limits: [0, 65_535] },
    { path: 'type', title: 'Form', type: 'choice', choices: typeChoices, applies: hasRegisters },
    { path: 'order', title: 'Octet order', type: 'choice', choices: orderChoices, applies: hasRegisters },
    {
      path: 'registers',
      title: 'Registers of a text',
      type: 'number',
      limits: [1, 60],
      applies: (target) => (target as Offered<ModbusTargetAt>).at.type === 'text',
    },
  ],
  sheet: [
    { title: 'Table', text: ({ at }) => TABLE_WORDS[at.table].one },
    { title: 'Address', text: ({ at }) => `${at.address}${at.bit === null ? '' : `.${at.bit}`}` },
    {
      title: 'Reference number',
      text: ({ at }) => `${TABLE_WORDS[at.table].digit}${String(at.address + 1).padStart(5, '0')}`,
    },
    { title: 'Form', text: ({ at }) => (isBitTable(at.table) || at.bit !== null ? 'bit' : at.type) },
    { title: 'Octet order', text: ({ at }) => (hasRegisters({ at }) && TYPES[at.type] > 1 ? at.order : '') },
    { title: 'Registers', text: ({ at }) => (hasRegisters({ at }) ? String(widthOf(at)) : '') },
  ],
};
