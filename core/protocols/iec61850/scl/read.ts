import { SaxesParser, type SaxesTagPlain } from 'saxes';
import { CONSTRAINTS, type Constraint } from '../model/reference.ts';
import type { Ied, LDevice, Ln, Scl, SclProblem, TemplatePart } from './document.ts';

/*
 * Reads a file of the substation configuration language piece by piece (XML 1.0; IEC 61850-6). Nothing that it says makes
 * more of it than stands there: a document type is refused, and with it all entities of its own.
 */

/** Elements in elements; the schema has some fifteen. */
const MOST_DEPTH = 60;
const MOST_PROBLEMS = 200;
const MOST_ELEMENTS = 10_000_000;
const MOST_TEXT = 4096;

/** What the file is not, or has not, beyond which nothing is read. */
class Unreadable extends Error {}

interface Frame {
  name: string;
  line: number;
  text: string;
}

export class SclReader {
  readonly problems: SclProblem[] = [];
  private readonly parser = new SaxesParser({ position: true });
  private readonly stack: Frame[] = [];
  private readonly scl: Scl = {
    version: '',
    header: { id: '', version: '', revision: '', tool: '' },
    ieds: [],
    addresses: [],
    templates: { nodes: new Map(), objects: new Map(), structures: new Map(), enumerations: new Map() },
  };
  private elements = 0;
  /** Elements of somebody's own that are open. */
  private privately = 0;
  private readonly names = new Set<string>();
  private failed = false;
  private ied: Ied | null = null;
  private device: LDevice | null = null;
  private node: Ln | null = null;
  /** Names of the data objects and attributes that are open. */
  private path: string[] = [];
  /** Of the value that is open; 0: of none. */
  private group = 0;
  private parts: TemplatePart[] | null = null;
  private enumeration: { values: Map<string, number> } | null = null;
  private pending: { ordinal: string } | null = null;

  constructor() {
    this.parser.on('error', (error) => {
      throw new Unreadable(`it is no well-formed XML: ${error.message.replace(/^\d+:\d+: /, '')}`);
    });
    this.parser.on('doctype', () => {
      throw new Unreadable('it has a document type, which is not read: entities of its own could be anything');
    });
    this.parser.on('opentag', (tag) => this.open(tag as SaxesTagPlain));
    this.parser.on('closetag', () => this.close());
    this.parser.on('text', (text) => {
      const frame = this.stack.at(-1);
      if (frame && WITH_TEXT.has(frame.name) && frame.text.length < MOST_TEXT) frame.text += text;
    });
  }

  /** The next piece of its text. */
  push(text: string): void {
    if (this.failed) return;
    this.guard(() => this.parser.write(text));
  }

  /** What it says, once all of it was pushed; null: it is no such file. */
  end(): Scl | null {
    if (!this.failed) this.guard(() => this.parser.close());
    if (!this.failed && this.scl.ieds.length === 0) this.report('problem', 'there is no IED in it', 1);
    return this.failed ? null : this.scl;
  }

  private guard(work: () => void): void {
    try {
      work();
    } catch (error) {
      this.failed = true;
      if (!(error instanceof Unreadable)) throw error;
      this.problems.push({ line: this.parser.line, severity: 'problem', words: error.message });
    }
  }

  private report(severity: SclProblem['severity'], words: string, line = this.parser.line): void {
    if (this.problems.length < MOST_PROBLEMS) this.problems.push({ line, severity, words });
  }

  private open(tag: SaxesTagPlain): void {
    const name = localName(tag.name);
    if (++this.elements > MOST_ELEMENTS) throw new Unreadable(`it has more than ${MOST_ELEMENTS} elements`);
    if (this.stack.length >= MOST_DEPTH) throw new Unreadable(`elements in elements, deeper than ${MOST_DEPTH}`);
    if (this.stack.length === 0 && name !== 'SCL')
      throw new Unreadable(`it is no file of the substation configuration language: it begins with ${name}, not SCL`);
    const { line } = this.parser;
    this.stack.push({ name, line, text: '' });
    // What is private to somebody may be called anything.
    if (name === 'Private') this.privately++;
    if (this.privately > 0) return;
    const { attributes } = tag;
    // Attributes of the language have no prefix.
    const of = (key: string): string => (attributes[key] ?? '').trim();
    this.element(name, of, line);
  }

  private get parent(): string {
    return this.stack.at(-2)?.name ?? '';
  }

  /** A whole number, or what stands in its place where it is none. */
  private number(text: string, what: string, fallback: number): number {
    if (text === '') return fallback;
    const value = Number(text);
    if (Number.isInteger(value) && value >= 0) return value;
    this.report('warning', `${what} is "${text.slice(0, 20)}", which is no whole number`);
    return fallback;
  }

  private element(name: string, of: (key: string) => string, line: number): void {
    switch (name) {
      case 'SCL':
        this.scl.version = `${of('version')}${of('revision')}${of('release')}`;
        if (of('version') !== '' && !/^20(03|07|10)$/.test(of('version')))
          this.report('warning', `its schema is version ${of('version')}: 2003, 2007 and 2010 are known`);
        break;
      case 'Header':
        this.scl.header = { id: of('id'), version: of('version'), revision: of('revision'), tool: of('toolID') };
        break;
      case 'IED':
        if (this.parent === 'SCL') this.openIed(of, line);
        break;
      case 'AccessPoint':
        this.ied?.accessPoints.push({ name: of('name'), line, devices: [] });
        break;
      case 'LDevice':
        this.openDevice(of, line);
        break;
      case 'LN0':
      case 'LN':
        this.openNode(name, of, line);
        break;
      case 'ConnectedAP':
        this.scl.addresses.push({ line, ied: of('iedName'), accessPoint: of('apName'), parameters: new Map() });
        break;
      case 'P':
        this.pending = { ordinal: of('type') };
        break;
      default:
        if (this.node !== null) this.inNode(name, of, line);
        else this.inTemplates(name, of, line);
    }
  }

  private openIed(of: (key: string) => string, line: number): void {
    const ied = {
      ...{ line, name: of('name'), type: of('type'), manufacturer: of('manufacturer'), description: of('desc') },
      accessPoints: [],
    };
    if (ied.name === '') this.report('problem', 'an IED has no name');
    else if (!NAME.test(ied.name))
      this.report('problem', `the IED "${ied.name}" has a name that is none: letters, digits and _`);
    if (this.names.has(ied.name)) this.report('problem', `there are two IEDs ${ied.name}`);
    this.names.add(ied.name);
    this.ied = ied;
    this.scl.ieds.push(ied);
  }

  private openDevice(of: (key: string) => string, line: number): void {
    const point = this.ied?.accessPoints.at(-1);
    const device = { line, instance: of('inst'), name: of('ldName'), description: of('desc'), nodes: [] };
    if (device.instance === '') this.report('problem', `a logical device of ${this.ied?.name} has no instance`);
    if (point?.devices.some((one) => one.instance === device.instance))
      this.report('problem', `${this.ied?.name} has two logical devices ${device.instance}`);
    this.device = device;
    point?.devices.push(device);
  }

  private openNode(name: string, of: (key: string) => string, line: number): void {
    const node: Ln = {
      ...{ line, prefix: of('prefix'), class: of('lnClass') || (name === 'LN0' ? 'LLN0' : ''), instance: of('inst') },
      ...{ type: of('lnType'), description: of('desc'), dataSets: [], reports: [] },
      ...{ descriptions: new Map(), values: new Map(), groupValues: [], groups: null, logs: [] },
    };
    const where = `${this.ied?.name ?? ''}${this.device?.instance ?? ''}/${nodeName(node)}`;
    if (!/^[A-Z]{4}$|^LLN0$/.test(node.class))
      this.report('problem', `${where}: "${node.class}" is no class of a logical node`);
    if (node.type === '') this.report('problem', `${where} has no type (lnType)`);
    if (node.instance !== '' && !/^\d{1,12}$/.test(node.instance))
      this.report('problem', `${where}: its number is "${node.instance}"`);
    if (this.device?.nodes.some((one) => nodeName(one) === nodeName(node)))
      this.report('problem', `there are two logical nodes ${where}`);
    this.node = node;
    this.path = [];
    // Nodes of a client stand in its access point: they hold no data that anybody asks for.
    this.device?.nodes.push(node);
  }

  private inNode(name: string, of: (key: string) => string, line: number): void {
    const { node } = this;
    if (node === null) return;
    switch (name) {
      case 'DOI':
      case 'SDI':
      case 'DAI': {
        const index = of('ix');
        this.path.push(`${of('name')}${index === '' ? '' : `(${index})`}`);
        if (of('desc') !== '') node.descriptions.set(this.path.join('.'), of('desc'));
        break;
      }
      case 'DataSet':
        if (node.dataSets.some((one) => one.name === of('name')))
          this.report('problem', `${nodeName(node)} has two data sets ${of('name')}`);
        node.dataSets.push({ line, name: of('name'), members: [] });
        break;
      case 'FCDA': {
        if (of('fc') === '' || !Object.hasOwn(CONSTRAINTS, of('fc')))
          this.report(
            'problem',
            `a member of data set ${node.dataSets.at(-1)?.name} has the functional constraint "${of('fc')}"`,
          );
        node.dataSets.at(-1)?.members.push({
          ...{ line, device: of('ldInst'), prefix: of('prefix'), class: of('lnClass'), instance: of('lnInst') },
          ...{ object: of('doName'), attribute: of('daName'), fc: of('fc'), index: of('ix') },
        });
        break;
      }
      case 'ReportControl':
        node.reports.push({
          ...{ line, name: of('name'), dataSet: of('datSet'), isBuffered: of('buffered') === 'true' },
          ...{ isIndexed: of('indexed') !== 'false', instances: 1, id: of('rptID') },
          revision: this.number(of('confRev'), 'the revision of a report', 1),
          bufferMs: this.number(of('bufTime'), 'the buffer time of a report', 0),
          integrityMs: this.number(of('intgPd'), 'the integrity period of a report', 0),
        });
        break;
      case 'SettingControl':
        node.groups = {
          count: Math.min(MOST_GROUPS, this.number(of('numOfSGs'), 'the number of setting groups', 1)),
          active: this.number(of('actSG'), 'the setting group in use', 1),
          reserveS: this.number(of('resvTms'), 'the time of editing a setting group', 0),
        };
        if (node.class !== 'LLN0') this.report('problem', `${nodeName(node)} has setting groups, which LLN0 has alone`);
        break;
      case 'LogControl':
        node.logs.push({
          ...{ line, name: of('name'), dataSet: of('datSet'), log: of('logName') },
          isEnabled: of('logEna') !== 'false',
        });
        break;
      case 'Val':
        this.group = this.number(of('sGroup'), 'the setting group of a value', 0);
        break;
      case 'RptEnabled': {
        const report = node.reports.at(-1);
        if (report)
          report.instances = Math.min(MOST_INSTANCES, this.number(of('max'), 'the number of report clients', 1));
        break;
      }
      default:
    }
  }

  private inTemplates(name: string, of: (key: string) => string, line: number): void {
    const { templates } = this.scl;
    const id = of('id');
    const unique = (known: ReadonlyMap<string, unknown>): void => {
      if (id === '') this.report('problem', `a ${name} has no id`);
      else if (known.has(id)) this.report('problem', `there are two ${name} ${id}`);
    };
    switch (name) {
      case 'LNodeType':
        unique(templates.nodes);
        templates.nodes.set(id, { line, class: of('lnClass'), objects: [] });
        break;
      case 'DO':
        [...templates.nodes.values()].at(-1)?.objects.push({ line, name: of('name'), type: of('type') });
        break;
      case 'DOType':
        unique(templates.objects);
        this.parts = [];
        templates.objects.set(id, { line, cdc: of('cdc'), parts: this.parts });
        break;
      case 'DAType':
        unique(templates.structures);
        this.parts = [];
        templates.structures.set(id, { line, parts: this.parts });
        break;
      case 'SDO':
      case 'DA':
      case 'BDA':
        this.parts?.push({
          ...{ line, isObject: name === 'SDO', name: of('name'), basic: of('bType'), type: of('type') },
          fc: (Object.hasOwn(CONSTRAINTS, of('fc')) ? of('fc') : '') as Constraint | '',
          // An array may be as long as another attribute says: that is not known here.
          ...{ count: /^\d+$/.test(of('count')) ? Number(of('count')) : 0, value: null },
        });
        break;
      case 'EnumType': {
        unique(templates.enumerations);
        const enumeration = { line, values: new Map<string, number>() };
        this.enumeration = enumeration;
        templates.enumerations.set(id, enumeration);
        break;
      }
      case 'EnumVal':
        this.pending = { ordinal: of('ord') };
        break;
      default:
    }
  }

  private close(): void {
    const frame = this.stack.pop();
    if (frame?.name === 'Private') this.privately--;
    if (frame === undefined || this.privately > 0) return;
    const text = frame.text.trim();
    switch (frame.name) {
      case 'IED':
        if (this.stack.length === 1) this.ied = null;
        break;
      case 'LDevice':
        this.device = null;
        break;
      case 'LN0':
      case 'LN':
        this.node = null;
        break;
      case 'DOI':
      case 'SDI':
      case 'DAI':
        this.path.pop();
        break;
      case 'Val':
        if (this.node !== null && this.group > 0)
          this.node.groupValues.push({ path: this.path.join('.'), group: this.group, value: text });
        else if (this.node !== null) this.node.values.set(this.path.join('.'), { line: frame.line, value: text });
        else {
          const part = this.parts?.at(-1);
          if (part) part.value = text;
        }
        break;
      case 'EnumVal':
        if (this.enumeration && this.pending) {
          const ordinal = Number(this.pending.ordinal);
          if (Number.isInteger(ordinal)) this.enumeration.values.set(text, ordinal);
          else this.report('problem', `the number of "${text}" is "${this.pending.ordinal}"`, frame.line);
        }
        break;
      case 'P':
        if (this.pending) this.scl.addresses.at(-1)?.parameters.set(this.pending.ordinal, text);
        break;
      case 'DOType':
      case 'DAType':
        this.parts = null;
        break;
      default:
    }
  }
}

const WITH_TEXT = new Set(['Val', 'EnumVal', 'P']);
const NAME = /^[A-Za-z][A-Za-z0-9_]{0,63}$/;
const MOST_INSTANCES = 99;
const MOST_GROUPS = 255;

const localName = (name: string): string => name.slice(name.indexOf(':') + 1);
export const nodeName = ({ prefix, class: of, instance }: Pick<Ln, 'prefix' | 'class' | 'instance'>): string =>
  `${prefix}${of}${instance}`;
