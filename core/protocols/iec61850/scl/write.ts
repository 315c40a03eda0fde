import type { TypeOf } from '../../mms/wire/data.ts';
import { MODELS } from '../control.ts';
import { nodeName, type Constraint, type Reference } from '../model/reference.ts';
import { partsOf } from '../model/types.ts';
import { systemObjects, type WantedObject } from '../server/made.ts';
import type { BlockSettings } from '../server/reportcontrol.ts';

/*
 * Writes a file of the substation configuration language for a model of ours (IEC 61850-6, edition 2.1): a description of
 * its capability without an address (ICD), or configured (CID) with one.
 */

export interface Written {
  ied: string;
  description: string;
  objects: readonly (WantedObject & { description: string; unit: string })[];
  dataSets: readonly { device: string; name: string; members: readonly Reference[] }[];
  blocks: readonly BlockSettings[];
  /** Devices with setting groups, and the values that differ from group to group. */
  groups?: readonly { device: string; count: number; active: number; values: readonly GroupValue[] }[];
  logs?: readonly { device: string; name: string; dataSet: string }[];
  /** Null: it is a description of capability. */
  address: { ip: string; port: number; selectors: { transport: string; session: string; presentation: string } } | null;
}

export interface GroupValue {
  node: string;
  /** Data object and attributes. */
  path: readonly string[];
  /** Group by group. */
  values: readonly string[];
}

export const USUAL_PORT = 102;

const escaped = (text: string): string =>
  text.replace(/[&<>"]/g, (one) => ({ '&': '&amp;', '<': '&lt;', '>': '&gt;', '"': '&quot;' })[one] ?? one);

/** One element: its attributes, and what is in it; attributes without a value are left out. */
function element(name: string, attributes: Record<string, string | number | undefined>, ...inside: string[]): string {
  const given = Object.entries(attributes)
    .filter(([, value]) => value !== undefined && value !== '')
    .map(([key, value]) => ` ${key}="${escaped(String(value))}"`)
    .join('');
  const content = inside.filter((part) => part !== '');
  if (content.length === 0) return `<${name}${given}/>`;
  // A text stands in its element as it is.
  if (content.length === 1 && !content[0].startsWith('<')) return `<${name}${given}>${content[0]}</${name}>`;
  return `<${name}${given}>\n${content.map(indented).join('\n')}\n</${name}>`;
}
const indented = (text: string): string => text.replace(/^/gm, '  ');

/** The basic type that an attribute has (9.5.4); structures have a type of their own. */
function basicOf(name: string, of: TypeOf): string {
  switch (of.type) {
    case 'boolean':
      return 'BOOLEAN';
    case 'integer':
      return name in ENUMERATIONS ? 'Enum' : `INT${of.bits}`;
    case 'unsigned':
      return `INT${of.bits}U`;
    case 'float':
      return of.width === 64 ? 'FLOAT64' : 'FLOAT32';
    case 'bits':
      return of.size === -13 ? 'Quality' : name === 'Check' ? 'Check' : 'Dbpos';
    case 'utcTime':
      return 'Timestamp';
    case 'binaryTime':
      return 'EntryTime';
    case 'octets':
      return 'Octet64';
    case 'text':
      return `VisString${Math.abs(of.size)}`;
    case 'wideText':
      return 'Unicode255';
    case 'structure':
    case 'array':
    case 'name':
      return 'Struct';
    default:
      return of satisfies never;
  }
}

/** Attributes that are one of several words, with these. */
const ENUMERATIONS: Record<string, { id: string; words: readonly string[] }> = {
  ctlModel: {
    id: 'CtlModelKind',
    words: [
      'status-only',
      'direct-with-normal-security',
      'sbo-with-normal-security',
      'direct-with-enhanced-security',
      'sbo-with-enhanced-security',
    ],
  },
  orCat: {
    id: 'OriginatorCategoryKind',
    words: [
      'not-supported',
      'bay-control',
      'station-control',
      'remote-control',
      'automatic-bay',
      'automatic-station',
      'automatic-remote',
      'maintenance',
      'process',
    ],
  },
};
const CHANGES = new Set(['stVal', 'general', 'mag', 'cVal', 'mxVal', 'actVal', 'setVal', 'setMag']);

type Typed = Pick<WantedObject, 'object' | 'cdc' | 'model' | 'isGrouped' | 'isReplaceable'>;

class Types {
  private readonly nodes = new Map<string, string>();
  private readonly objects = new Map<string, string>();
  private readonly structures = new Map<string, string>();

  node(name: string, objects: readonly Typed[]): string {
    const inside = objects.map((one) => element('DO', { name: one.object, type: this.object(one) }));
    const of = nodeName(name)?.class ?? 'GGIO';
    // Nodes that have the same share a type.
    for (const [id, text] of this.nodes) if (text === wrapped(id, of, inside)) return id;
    const id = `${of}_${this.nodes.size + 1}`;
    this.nodes.set(id, wrapped(id, of, inside));
    return id;
  }

  private object({ cdc, model, isGrouped, isReplaceable }: Typed): string {
    const id = `${cdc}_${MODELS.indexOf(model)}${isGrouped ? '_SG' : ''}${isReplaceable ? '_SV' : ''}`;
    if (this.objects.has(id)) return id;
    this.objects.set(id, '');
    const parts = Object.entries(partsOf(cdc, model, { isGrouped, isReplaceable })) as [Constraint, TypeOf][];
    const inside = parts.flatMap(([fc, of]) =>
      of.type !== 'structure' ? [] : of.components.map((part) => this.part(part.name, part.of, fc, id)),
    );
    this.objects.set(id, element('DOType', { id, cdc }, ...inside));
    return id;
  }

  /** A data object within one has quality of its own; everything else is an attribute. */
  private part(name: string, of: TypeOf, fc: Constraint, within: string): string {
    if (of.type === 'structure' && /^phs[ABC]$/.test(name)) {
      const id = `${within}_phs_${fc}`;
      if (!this.objects.has(id)) {
        this.objects.set(id, '');
        const inside = of.components.map((part) => this.part(part.name, part.of, fc, id));
        this.objects.set(id, element('DOType', { id, cdc: 'CMV' }, ...inside));
      }
      return element('SDO', { name, type: id });
    }
    const basic = basicOf(name, of);
    const type = basic === 'Enum' ? ENUMERATIONS[name].id : basic === 'Struct' ? this.structure(name, of) : undefined;
    const changes = CHANGES.has(name) ? 'true' : undefined;
    return element('DA', { name, bType: basic, type, fc, dchg: changes, qchg: name === 'q' ? 'true' : undefined });
  }

  private structure(name: string, of: TypeOf): string {
    const components = of.type === 'structure' ? of.components : [];
    const inside = components.map((part) => {
      const basic = basicOf(part.name, part.of);
      const type =
        basic === 'Enum'
          ? ENUMERATIONS[part.name].id
          : basic === 'Struct'
            ? this.structure(part.name, part.of)
            : undefined;
      return element('BDA', { name: part.name, bType: basic, type });
    });
    for (const [id, text] of this.structures) if (text === element('DAType', { id }, ...inside)) return id;
    const id = `${name}_${this.structures.size + 1}`;
    this.structures.set(id, element('DAType', { id }, ...inside));
    return id;
  }

  get text(): string {
    const enumerations = Object.values(ENUMERATIONS).map(({ id, words }) =>
      element('EnumType', { id }, ...words.map((word, ord) => element('EnumVal', { ord }, word))),
    );
    const all = [...this.nodes.values(), ...this.objects.values(), ...this.structures.values(), ...enumerations];
    return element('DataTypeTemplates', {}, ...all);
  }
}
const wrapped = (id: string, of: string, inside: readonly string[]): string =>
  element('LNodeType', { id, lnClass: of }, ...inside);

export function sclOf(written: Written): string {
  const types = new Types();
  const devices = [...new Set(written.objects.map(({ device }) => device))];
  const inside = devices.map((device) => deviceOf(written, device, types));
  const point = element(
    'AccessPoint',
    { name: 'S1' },
    element('Server', {}, element('Authentication', { none: 'true' }), ...inside),
  );
  const ied = element(
    'IED',
    {
      name: written.ied,
      desc: written.description,
      manufacturer: 'Halvix',
      type: 'gateway',
      originalSclVersion: '2007',
    },
    point,
  );
  const head = element('Header', { id: written.ied, version: '1', toolID: 'Halvix' });
  const scl = element(
    'SCL',
    { xmlns: 'http://www.iec.ch/61850/2003/SCL', version: '2007', revision: 'B', release: '4' },
    head,
    written.address === null ? '' : communicationOf(written.ied, written.address),
    ied,
    types.text,
  );
  return `<?xml version="1.0" encoding="UTF-8"?>\n${scl}\n`;
}

function communicationOf(ied: string, { ip, port, selectors }: NonNullable<Written['address']>): string {
  const parameter = (type: string, value: string): string => (value === '' ? '' : element('P', { type }, value));
  const address = element(
    'Address',
    {},
    parameter('IP', ip),
    // Since edition 2.1; the usual one goes without saying.
    parameter('MMS-Port', port === USUAL_PORT ? '' : String(port)),
    parameter('OSI-TSEL', selectors.transport),
    parameter('OSI-SSEL', selectors.session),
    parameter('OSI-PSEL', selectors.presentation),
  );
  const point = element('ConnectedAP', { iedName: ied, apName: 'S1' }, address);
  return element('Communication', {}, element('SubNetwork', { name: 'station', type: '8-MMS' }, point));
}

function deviceOf(written: Written, device: string, types: Types): string {
  const own = written.objects.filter((one) => one.device === device);
  const names = [...new Set(['LLN0', 'LPHD1', ...own.map(({ node }) => node)])];
  const nodes = names.map((name) =>
    nodeOf(
      written,
      device,
      name,
      own.filter(({ node }) => node === name),
      types,
    ),
  );
  return element('LDevice', { inst: device, ldName: device }, ...nodes);
}

function nodeOf(written: Written, device: string, name: string, own: Written['objects'], types: Types): string {
  const system = systemObjects(name).map(([object, cdc]) => ({ object, cdc, model: 'statusOnly' as const }));
  const type = types.node(name, [...system, ...own]);
  const parts = nodeName(name);
  const attributes = { prefix: parts?.prefix, lnClass: parts?.class, inst: parts?.instance, lnType: type };
  const sets = written.dataSets.filter((set) => set.device === device && set.name.startsWith(`${name}$`));
  const grouped = (written.groups ?? []).find((one) => one.device === device);
  const values = own.flatMap(({ object, cdc, model, description }) => {
    const d =
      description === ''
        ? ''
        : element('DAI', { name: 'd' }, element('Val', {}, escaped(description.replace(/[^ -~]/g, '?'))));
    const word = ENUMERATIONS.ctlModel.words[MODELS.indexOf(model)];
    const control = /^(SPC|DPC|INC|APC)$/.test(cdc)
      ? element('DAI', { name: 'ctlModel' }, element('Val', {}, word))
      : '';
    const settings = (grouped?.values ?? [])
      .filter((one) => one.node === name && one.path[0] === object)
      .map(({ path, values: all }) => settingOf(path.slice(1), all));
    if (d === '' && control === '' && settings.length === 0) return [];
    return [element('DOI', { name: object, desc: description }, ...settings, control, d)];
  });
  const logs = (written.logs ?? []).filter((one) => one.device === device && name === 'LLN0');
  const reports = groupsOf(written.blocks.filter((one) => one.device === device && one.item.startsWith(`${name}$`)));
  return element(
    name === 'LLN0' ? 'LN0' : 'LN',
    name === 'LLN0' ? { lnClass: 'LLN0', inst: '', lnType: type } : attributes,
    ...sets.map((set) => element('DataSet', { name: set.name.split('$')[1] }, ...set.members.map(memberOf))),
    ...reports.map(reportOf),
    ...logs.map(({ name: log, dataSet }) =>
      element(
        'LogControl',
        { name: log, datSet: dataSet.split('$')[1], logName: log, logEna: 'true' },
        element('TrgOps', { dchg: 'true', qchg: 'true' }),
      ),
    ),
    ...values,
    ...logs.map(({ name: log }) => element('Log', { name: log })),
    grouped !== undefined && name === 'LLN0'
      ? element('SettingControl', { numOfSGs: grouped.count, actSG: grouped.active })
      : '',
  ).replace('<LN0 lnClass', '<LN0 inst="" lnClass');
}

/** Elements of a setting in one another, with its value for each group. */
function settingOf([first, ...rest]: readonly string[], values: readonly string[]): string {
  return rest.length > 0
    ? element('SDI', { name: first }, settingOf(rest, values))
    : element('DAI', { name: first }, ...values.map((value, at) => element('Val', { sGroup: at + 1 }, escaped(value))));
}

function memberOf({ device, node, path, fc }: Reference): string {
  const parts = nodeName(node);
  const [doName, ...rest] = path;
  return element('FCDA', {
    ...{ ldInst: device, prefix: parts?.prefix, lnClass: parts?.class, lnInst: parts?.instance },
    ...{ doName, daName: rest.join('.'), fc },
  });
}

interface Group {
  name: string;
  dataSet: string;
  isBuffered: boolean;
  revision: number;
  count: number;
}

/** Blocks that are one but for the number behind their names. */
function groupsOf(blocks: readonly BlockSettings[]): Group[] {
  const groups = new Map<string, Group>();
  for (const { item, isBuffered, dataSet, revision } of blocks) {
    const name = item.split('$')[2].replace(/\d\d$/, '');
    const known = groups.get(name);
    if (known) known.count++;
    else groups.set(name, { name, isBuffered, revision, count: 1, dataSet: dataSet.split('$')[1] ?? '' });
  }
  return [...groups.values()];
}

const reportOf = ({ name, dataSet, isBuffered, revision, count }: Group): string =>
  element(
    'ReportControl',
    { name, rptID: '', datSet: dataSet, confRev: revision, buffered: String(isBuffered), bufTime: 50, indexed: 'true' },
    element('TrgOps', { dchg: 'true', qchg: 'true', period: 'true' }),
    element('OptFields', {
      ...{ seqNum: 'true', timeStamp: 'true', reasonCode: 'true', dataSet: 'true', entryID: 'true', configRef: 'true' },
    }),
    element('RptEnabled', { max: count }),
  );
