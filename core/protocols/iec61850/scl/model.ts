import type { TypeOf } from '../../mms/wire/data.ts';
import { typeAt, type Component, type LogicalDevice, type Model } from '../model/model.ts';
import { CONSTRAINTS, parse, print, type Constraint, type Reference } from '../model/reference.ts';
import type { Fcda, Ied, LDevice, Ln, Scl, SclProblem, TemplatePart } from './document.ts';
import { nodeName } from './read.ts';

/** Basic types of attributes (IEC 61850-6, 9.5.4; as MMS has them after IEC 61850-8-1, clause 8). */
const BASIC: Record<string, TypeOf | undefined> = {
  BOOLEAN: { type: 'boolean' },
  INT8: { type: 'integer', bits: 8 },
  INT16: { type: 'integer', bits: 16 },
  INT24: { type: 'integer', bits: 24 },
  INT32: { type: 'integer', bits: 32 },
  INT64: { type: 'integer', bits: 64 },
  INT128: { type: 'integer', bits: 128 },
  INT8U: { type: 'unsigned', bits: 8 },
  INT16U: { type: 'unsigned', bits: 16 },
  INT24U: { type: 'unsigned', bits: 24 },
  INT32U: { type: 'unsigned', bits: 32 },
  FLOAT32: { type: 'float', width: 32, exponent: 8 },
  FLOAT64: { type: 'float', width: 64, exponent: 11 },
  Enum: { type: 'integer', bits: 8 },
  Dbpos: { type: 'bits', size: 2 },
  Tcmd: { type: 'bits', size: 2 },
  Quality: { type: 'bits', size: -13 },
  Timestamp: { type: 'utcTime' },
  VisString32: { type: 'text', size: -32 },
  VisString64: { type: 'text', size: -64 },
  VisString65: { type: 'text', size: -65 },
  VisString129: { type: 'text', size: -129 },
  VisString255: { type: 'text', size: -255 },
  Octet64: { type: 'octets', size: -64 },
  Octet6: { type: 'octets', size: -6 },
  Octet16: { type: 'octets', size: -16 },
  EntryTime: { type: 'binaryTime', days: true },
  EntryID: { type: 'octets', size: 8 },
  Unicode255: { type: 'wideText', size: -255 },
  Check: { type: 'bits', size: -2 },
  ObjRef: { type: 'text', size: -129 },
  Currency: { type: 'text', size: -3 },
  TrgOps: { type: 'bits', size: -6 },
  OptFlds: { type: 'bits', size: -10 },
  SvOptFlds: { type: 'bits', size: -5 },
  LogOptFlds: { type: 'bits', size: -1 },
  PhyComAddr: { type: 'octets', size: -12 },
};

/** Attributes of one type: more is no device, but types in types that multiply. */
const MOST_LEAVES = 50_000;

/** The name that a logical device has in MMS. */
export const deviceName = (ied: Pick<Ied, 'name'>, { name, instance }: Pick<LDevice, 'name' | 'instance'>): string =>
  name === '' ? `${ied.name}${instance}` : name;

/** The models of the devices of a file, with what does not fit. */
export class SclModels {
  readonly problems: SclProblem[] = [];
  /** Parts of data objects by functional constraint, type by type. */
  private readonly objects = new Map<string, Map<Constraint, Component[]>>();
  private readonly structures = new Map<string, TypeOf | null>();
  private readonly leaves = new WeakMap<TypeOf, number>();
  /** Types that are being made: one of them within itself would never end. */
  private readonly open = new Set<object>();

  constructor(private readonly scl: Scl) {}

  private report(line: number, words: string, severity: SclProblem['severity'] = 'problem'): void {
    if (this.problems.length < MOST_PROBLEMS && !this.problems.some((one) => one.line === line && one.words === words))
      this.problems.push({ line, severity, words });
  }

  modelOf(ied: Ied): Model {
    const devices: LogicalDevice[] = [];
    const names = new Set<string>();
    for (const { devices: own } of ied.accessPoints)
      for (const device of own) {
        const name = deviceName(ied, device);
        if (names.has(name)) this.report(device.line, `two logical devices of ${ied.name} are called ${name}`);
        names.add(name);
        if (name.length > MOST_DEVICE)
          this.report(device.line, `${name} has ${name.length} characters, at most ${MOST_DEVICE}`);
        const nodes = device.nodes.map((node) => {
          const constraints = this.constraintsOf(node, name);
          return { name: nodeName(node), constraints, dataSets: [] as { name: string; members: Reference[] }[] };
        });
        devices.push({ name, nodes });
      }
    const model = { devices };
    for (const { devices: own } of ied.accessPoints)
      for (const device of own) this.addDataSets(model, ied, device, own);
    return model;
  }

  private constraintsOf(node: Ln, device: string): LogicalDevice['nodes'][number]['constraints'] {
    const type = this.scl.templates.nodes.get(node.type);
    const where = `${device}/${nodeName(node)}`;
    if (type === undefined) {
      if (node.type !== '') this.report(node.line, `${where}: there is no type ${node.type} (LNodeType)`);
      return [];
    }
    if (type.class !== node.class)
      this.report(node.line, `${where} is a ${node.class}, its type ${node.type} is of class ${type.class}`);
    const byConstraint = new Map<Constraint, Component[]>();
    for (const { name, type: of, line } of type.objects)
      for (const [fc, components] of this.partsOf(of, line)) {
        const objects = byConstraint.get(fc) ?? [];
        objects.push({ name, of: { type: 'structure', components } });
        byConstraint.set(fc, objects);
      }
    this.checkValues(node, where, type.objects);
    // What is in setting groups is edited under a constraint of its own.
    const grouped = byConstraint.get('SG');
    if (grouped !== undefined && !byConstraint.has('SE')) byConstraint.set('SE', grouped);
    return (Object.keys(CONSTRAINTS) as Constraint[]).flatMap((fc) => {
      const objects = byConstraint.get(fc);
      return objects === undefined ? [] : [{ fc, objects }];
    });
  }

  private checkValues(node: Ln, where: string, objects: readonly { name: string }[]): void {
    const known = new Set(objects.map(({ name }) => name));
    for (const [path, { line, value }] of node.values) {
      const [object] = path.split('.');
      if (!known.has(object.replace(/\(\d+\)$/, ''))) this.report(line, `${where} has no data object ${object}`);
      else if (/(^|\.)ctlModel$/.test(path) && !/^[0-4]$|^(status-only|direct-with|sbo-with)/.test(value))
        this.report(line, `${where}.${path}: "${value}" is no control model`);
    }
  }

  /** What a data object of a type has, by functional constraint. */
  private partsOf(id: string, line: number): Map<Constraint, Component[]> {
    const known = this.objects.get(id);
    if (known !== undefined) return known;
    const made = new Map<Constraint, Component[]>();
    const type = this.scl.templates.objects.get(id);
    if (type === undefined) {
      this.report(line, `there is no type ${id} (DOType)`);
      return made;
    }
    if (this.open.has(type)) {
      this.report(type.line, `the type ${id} is in itself`);
      return made;
    }
    this.open.add(type);
    const add = (fc: Constraint, component: Component): void => {
      const components = made.get(fc) ?? [];
      components.push(component);
      made.set(fc, components);
    };
    for (const part of type.parts) {
      if (part.isObject) {
        for (const [fc, components] of this.partsOf(part.type, part.line))
          add(fc, { name: part.name, of: inArray({ type: 'structure', components }, part.count) });
        continue;
      }
      if (part.fc === '') {
        this.report(part.line, `${id}.${part.name} has no functional constraint`);
        continue;
      }
      const of = this.typeOf(part, id);
      if (of !== null) add(part.fc, { name: part.name, of });
    }
    this.open.delete(type);
    const leaves = [...made.values()].flat().reduce((sum, one) => sum + this.leavesOf(one.of), 0);
    if (leaves > MOST_LEAVES) {
      this.report(type.line, `the type ${id} has ${leaves} attributes, more than ${MOST_LEAVES}`);
      made.clear();
    }
    this.objects.set(id, made);
    return made;
  }

  private typeOf(part: TemplatePart, within: string): TypeOf | null {
    const { basic, type, line, name } = part;
    if (basic === 'Enum' && !this.scl.templates.enumerations.has(type))
      this.report(line, `${within}.${name}: there is no enumeration ${type} (EnumType)`, 'warning');
    if (basic !== 'Struct') {
      const of = BASIC[basic];
      if (of === undefined) this.report(line, `${within}.${name}: "${basic}" is no basic type`);
      return of === undefined ? null : inArray(of, part.count);
    }
    const of = this.structureOf(type, `${within}.${name}`, line);
    return of === null ? null : inArray(of, part.count);
  }

  private structureOf(id: string, where: string, line: number): TypeOf | null {
    const known = this.structures.get(id);
    if (known !== undefined) return known;
    const structure = this.scl.templates.structures.get(id);
    if (structure === undefined) {
      this.report(line, `${where}: there is no type ${id} (DAType)`);
      return null;
    }
    if (this.open.has(structure)) {
      this.report(structure.line, `the type ${id} is in itself`);
      return null;
    }
    this.open.add(structure);
    const components = structure.parts.flatMap((one): Component[] => {
      const of = this.typeOf(one, id);
      return of === null ? [] : [{ name: one.name, of }];
    });
    this.open.delete(structure);
    let made: TypeOf | null = { type: 'structure', components };
    if (this.leavesOf(made) > MOST_LEAVES) {
      this.report(structure.line, `the type ${id} has more than ${MOST_LEAVES} attributes`);
      made = null;
    }
    this.structures.set(id, made);
    return made;
  }

  /** How many attributes are in it; types in types are counted once. */
  private leavesOf(of: TypeOf): number {
    if (of.type === 'array') return of.count * this.leavesOf(of.element);
    if (of.type !== 'structure') return 1;
    const known = this.leaves.get(of);
    if (known !== undefined) return known;
    // Structures count too: empty ones multiply as well.
    const count = of.components.reduce((sum, one) => sum + this.leavesOf(one.of), 1);
    this.leaves.set(of, count);
    return count;
  }

  private addDataSets(model: Model, ied: Ied, device: LDevice, all: readonly LDevice[]): void {
    const name = deviceName(ied, device);
    const own = model.devices.find((one) => one.name === name);
    device.nodes.forEach((node, at) => {
      for (const set of node.dataSets) {
        const members = set.members.flatMap((member) => this.memberOf(model, ied, member, all) ?? []);
        own?.nodes[at].dataSets.push({ name: set.name, members });
      }
      for (const report of node.reports)
        if (report.dataSet !== '' && !node.dataSets.some((one) => one.name === report.dataSet))
          this.report(
            report.line,
            `${name}/${nodeName(node)}: report ${report.name} has the data set ${report.dataSet}, which is not there`,
          );
    });
  }

  private memberOf(model: Model, ied: Ied, member: Fcda, all: readonly LDevice[]): Reference | null {
    const device = all.find(({ instance }) => instance === member.device);
    const words = `${member.device}/${member.prefix}${member.class}${member.instance}.${[member.object, member.attribute].filter(Boolean).join('.')}`;
    if (device === undefined) {
      this.report(
        member.line,
        `a member of a data set is in the logical device ${member.device}, which ${ied.name} does not have`,
      );
      return null;
    }
    const node = nodeName({ prefix: member.prefix, class: member.class || 'LLN0', instance: member.instance });
    const path = [member.object, member.attribute].filter(Boolean).join('.');
    const read = parse(`${deviceName(ied, device)}/${node}${path === '' ? '' : `.${path}`}[${member.fc}]`);
    if (!read.ok || typeAt(model, read.value) === null) {
      this.report(member.line, `a data set has ${words} with ${member.fc}, which is not there`);
      return null;
    }
    return read.value;
  }
}

const MOST_PROBLEMS = 200;
const MOST_DEVICE = 64;

const inArray = (of: TypeOf, count: number): TypeOf => (count > 0 ? { type: 'array', count, element: of } : of);

/** How values are reported: data sets with their members, by names as people say them. */
export const reportedOf = (model: Model, ied: Ied): Set<string> => {
  const reported = new Set<string>();
  for (const { devices } of ied.accessPoints)
    for (const device of devices)
      for (const node of device.nodes)
        for (const report of node.reports) {
          const set = model.devices
            .find(({ name }) => name === deviceName(ied, device))
            ?.nodes.find(({ name }) => name === nodeName(node))
            ?.dataSets.find(({ name }) => name === report.dataSet);
          for (const member of set?.members ?? []) reported.add(print(member));
        }
  return reported;
};
