import type { Data, TypeOf } from '../../mms/wire/data.ts';
import { MODELS, type ControlModel } from '../control.ts';
import { typeIn, type Model } from '../model/model.ts';
import type { Constraint, Reference } from '../model/reference.ts';
import { structure } from '../model/types.ts';
import type { BlockSettings } from '../server/reportcontrol.ts';
import type { LogPlan } from '../server/logs.ts';
import type { ModelPlan } from '../server/modelserver.ts';
import type { GroupPlan } from '../server/settinggroups.ts';
import type { Ied, LDevice, Ln, Scl, TemplatePart } from './document.ts';
import { deviceName, SclModels } from './model.ts';
import { nodeName } from './read.ts';

/*
 * The model of one device of a file (IEC 61850-6), for a server that is to be like it: its types, the values that the file
 * gives, data sets, report control blocks with all their instances, what is operated, setting groups and logs.
 */

export interface PlanOptions {
  /** Values that each buffer keeps. */
  bufferValues: number;
  /** Entries that each log keeps. */
  logEntries?: number;
}

const LOG_ENTRIES = 5000;
/** A minute, where a file does not say how long a setting group may be edited. */
const EDIT_MS = 60_000;

export function planOf(scl: Scl, ied: Ied, { bufferValues, logEntries = LOG_ENTRIES }: PlanOptions): ModelPlan {
  const model = new SclModels(scl).modelOf(ied);
  const devices = ied.accessPoints.flatMap((point) => point.devices);
  const values: [Reference, Data][] = [];
  const operated: { object: Reference; model: ControlModel }[] = [];
  const blocks: BlockSettings[] = [];
  const groups: GroupPlan[] = [];
  const logs: LogPlan[] = [];
  for (const device of devices) {
    const name = deviceName(ied, device);
    for (const node of device.nodes) {
      const place = { scl, device: name, node, of: typeOfNode(model, name, nodeName(node)) };
      values.push(...valuesOf(place));
      operated.push(...operatedOf(place));
      blocks.push(...blocksOf(name, node, bufferValues));
      logs.push(...logsOf(name, node, logEntries));
    }
    const [first] = device.nodes.flatMap((node) => node.groups ?? []);
    if (first !== undefined && first.count > 0)
      groups.push({
        ...{ device: name, count: first.count, active: first.active },
        editMs: first.reserveS > 0 ? first.reserveS * 1000 : EDIT_MS,
        values: groupValuesOf(scl, model, name, device),
      });
  }
  return {
    devices: model.devices.map(({ name, nodes }) => ({
      name,
      nodes: nodes.map((node) => ({ name: node.name, of: typeOfNode(model, name, node.name) })),
    })),
    dataSets: model.devices.flatMap(({ name: device, nodes }) =>
      nodes.flatMap(({ name, dataSets }) =>
        dataSets.map((set) => ({ device, name: `${name}$${set.name}`, members: set.members })),
      ),
    ),
    ...{ blocks, operated, values, groups, logs },
  };
}

function typeOfNode({ devices }: Model, device: string, node: string): TypeOf {
  const found = devices.find(({ name }) => name === device)?.nodes.find(({ name }) => name === node);
  return structure(
    ...(found?.constraints ?? []).map(
      ({ fc, objects }) => [fc, { type: 'structure' as const, components: objects }] as const,
    ),
  );
}

interface Place {
  scl: Scl;
  device: string;
  node: Ln;
  of: TypeOf;
}

// ---- values

/** An attribute that is nothing but a value, as the templates have it. */
interface Attribute {
  path: readonly string[];
  fc: Constraint;
  part: TemplatePart;
}

/** All attributes of a node; those in arrays have no values of their own in a file. */
function attributesOf({ templates }: Scl, node: Ln): Attribute[] {
  const found: Attribute[] = [];
  const inObject = (type: string, path: readonly string[]): void => {
    for (const part of templates.objects.get(type)?.parts ?? []) {
      if (part.count > 0) continue;
      if (part.isObject) inObject(part.type, [...path, part.name]);
      else if (part.fc !== '') inAttribute(part, part.fc, [...path, part.name]);
    }
  };
  const inAttribute = (part: TemplatePart, fc: Constraint, path: readonly string[]): void => {
    if (part.basic !== 'Struct') found.push({ path, fc, part });
    else
      for (const inside of templates.structures.get(part.type)?.parts ?? [])
        if (inside.count === 0) inAttribute(inside, fc, [...path, inside.name]);
  };
  for (const { name, type } of templates.nodes.get(node.type)?.objects ?? []) inObject(type, [name]);
  return found;
}

function valuesOf({ scl, device, node, of }: Place): [Reference, Data][] {
  const values: [Reference, Data][] = [];
  for (const { path, fc, part } of attributesOf(scl, node)) {
    const text = node.values.get(path.join('.'))?.value ?? part.value;
    const data = text === null ? null : dataOf(scl, part, text, of, { fc, path });
    if (data !== null) values.push([{ device, node: nodeName(node), fc, path }, data]);
  }
  return values;
}

function groupValuesOf(scl: Scl, model: Model, device: string, { nodes }: LDevice): NonNullable<GroupPlan['values']> {
  return nodes.flatMap((node) => {
    if (node.groupValues.length === 0) return [];
    const of = typeOfNode(model, device, nodeName(node));
    const attributes = new Map(attributesOf(scl, node).map((one) => [one.path.join('.'), one] as const));
    return node.groupValues.flatMap(({ path, group, value }) => {
      const known = attributes.get(path);
      const data = known && dataOf(scl, known.part, value, of, known);
      if (known === undefined || data == null) return [];
      return [{ group, reference: { device, node: nodeName(node), fc: 'SG' as const, path: known.path }, data }];
    });
  });
}

/** Positions by their words (IEC 61850-6, 9.5.4: Dbpos). */
const POSITIONS: Record<string, number> = { 'intermediate-state': 0, off: 1, on: 2, 'bad-state': 3 };

/** What a file says of a value, as its type has it; null: it is none of these. */
function dataOf(
  { templates }: Scl,
  { basic, type }: TemplatePart,
  text: string,
  node: TypeOf,
  place: Pick<Reference, 'fc' | 'path'>,
): Data | null {
  const of = typeIn(node, place);
  const ordinal = basic === 'Enum' ? templates.enumerations.get(type)?.values.get(text) : undefined;
  const number = ordinal ?? Number(text);
  switch (of?.type) {
    case 'boolean':
      return /^(true|1|false|0)$/.test(text) ? { type: 'boolean', value: text === 'true' || text === '1' } : null;
    case 'integer':
    case 'unsigned':
      return text !== '' && Number.isInteger(number) && (of.type === 'integer' || number >= 0)
        ? { type: of.type, value: number }
        : null;
    case 'float':
      return text !== '' && Number.isFinite(number)
        ? { type: 'float', value: of.width === 64 ? number : Math.fround(number), width: of.width === 64 ? 64 : 32 }
        : null;
    case 'text':
    case 'wideText':
      return { type: 'text', text: text.slice(0, Math.abs(of.size)), wide: of.type === 'wideText' };
    case 'bits': {
      const position = basic === 'Dbpos' ? (POSITIONS[text] ?? number) : NaN;
      return Number.isInteger(position) && position >= 0 && position <= 3
        ? { type: 'bits', bits: [(position & 2) !== 0, (position & 1) !== 0] }
        : null;
    }
    default:
      return null;
  }
}

// ---- what is operated

const MODEL_WORDS = [
  'status-only',
  'direct-with-normal-security',
  'sbo-with-normal-security',
  'direct-with-enhanced-security',
  'sbo-with-enhanced-security',
];

function operatedOf({ scl, device, node, of }: Place): { object: Reference; model: ControlModel }[] {
  const attributes = new Map(attributesOf(scl, node).map((one) => [one.path.join('.'), one.part] as const));
  const own = of.type === 'structure' ? of.components.find(({ name }) => name === 'CO')?.of : undefined;
  const objects = own?.type === 'structure' ? own.components : [];
  return objects.flatMap(({ name }) => {
    const path = `${name}.ctlModel`;
    const said = node.values.get(path)?.value ?? attributes.get(path)?.value ?? '';
    const at = MODEL_WORDS.includes(said) ? MODEL_WORDS.indexOf(said) : Number(said);
    // A file that does not say it leaves it to be seen.
    const model = said === '' ? 'statusOnly' : (MODELS[at] ?? 'statusOnly');
    return [{ object: { device, node: nodeName(node), fc: 'CO' as const, path: [name] }, model }];
  });
}

// ---- reports and logs

function blocksOf(device: string, node: Ln, values: number): BlockSettings[] {
  const name = nodeName(node);
  return node.reports.flatMap((report): BlockSettings[] => {
    const fc = report.isBuffered ? 'BR' : 'RP';
    const names = report.isIndexed
      ? Array.from({ length: report.instances }, (_, at) => `${report.name}${String(at + 1).padStart(2, '0')}`)
      : [report.name];
    return names.map((instance) => ({
      ...{ device, item: `${name}$${fc}$${instance}`, isBuffered: report.isBuffered, values },
      reportId: report.id || `${device}/${name}$${fc}$${instance}`,
      dataSet: report.dataSet === '' ? '' : `${device}/${name}$${report.dataSet}`,
      ...{ revision: report.revision, bufferMs: report.bufferMs, integrityMs: report.integrityMs },
    }));
  });
}

const logsOf = (device: string, node: Ln, most: number): LogPlan[] =>
  node.logs
    .filter(({ dataSet }) => dataSet !== '')
    .map(({ name, log, dataSet, isEnabled }) => ({
      ...{ device, item: `${nodeName(node)}$LG$${name}`, log: `${nodeName(node)}$${log || name}` },
      ...{ dataSet: `${device}/${nodeName(node)}$${dataSet}`, isEnabled, most },
    }));
