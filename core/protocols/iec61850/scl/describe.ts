import type { Described, DescribedDevice, DescribedPoint, DescriptionReader } from '../../definition.ts';
import { unitWords } from '../model/cdc.ts';
import { operablesOf, pointsOf, type Model } from '../model/model.ts';
import { nodeName as partsOfName, print, type Reference } from '../model/reference.ts';
import { objectInfo } from '../model/nodes.ts';
import { holds } from '../client/wanted.ts';
import type { ConnectedAccessPoint, Ied, LDevice, Ln, Scl, SclProblem } from './document.ts';
import { deviceName, SclModels } from './model.ts';
import { nodeName, SclReader } from './read.ts';

/** What a file of the substation configuration language says of devices: their addresses, and their values as points. */
export class SclDescriptions implements DescriptionReader {
  private readonly reader = new SclReader();

  push(text: string): void {
    this.reader.push(text);
  }

  end(): Described {
    const scl = this.reader.end();
    const { problems } = this.reader;
    if (scl === null) return { about: '', devices: [], problems };
    const models = new SclModels(scl);
    const addresses = new Map<string, ConnectedAccessPoint[]>();
    for (const one of scl.addresses) addresses.set(one.ied, [...(addresses.get(one.ied) ?? []), one]);
    const devices = scl.ieds.map((ied) => deviceOf(addresses.get(ied.name) ?? [], ied, models.modelOf(ied)));
    const all = [...problems, ...models.problems, ...addressProblems(scl)];
    return { about: aboutOf(scl), devices, problems: all.sort((a, b) => a.line - b.line) };
  }
}

const EDITIONS: readonly (readonly [RegExp, string])[] = [
  [/^2007B4/, 'edition 2.1'],
  [/^2007/, 'edition 2'],
  [/^(2003|$)/, 'edition 1'],
];

function aboutOf({ version, header, ieds }: Scl): string {
  const edition = EDITIONS.find(([known]) => known.test(version))?.[1] ?? `schema ${version}`;
  const count = ieds.length === 1 ? '1 IED' : `${ieds.length} IEDs`;
  return [header.id, edition, header.version && `version ${header.version}`, header.tool && `by ${header.tool}`, count]
    .filter(Boolean)
    .join(', ');
}

const IPV4 = /^((25[0-5]|2[0-4]\d|1?\d?\d)\.){3}(25[0-5]|2[0-4]\d|1?\d?\d)$/;

function addressProblems({ addresses, ieds }: Scl): SclProblem[] {
  const problems: SclProblem[] = [];
  const taken = new Map<string, string>();
  const known = new Map(ieds.map((one) => [one.name, one]));
  for (const { line, ied, accessPoint, parameters } of addresses) {
    const found = known.get(ied);
    if (found === undefined)
      problems.push({ line, severity: 'warning', words: `an address is given for ${ied}, which is not in the file` });
    else if (!found.accessPoints.some(({ name }) => name === accessPoint))
      problems.push({
        line,
        severity: 'warning',
        words: `${ied} has no access point ${accessPoint}, which has an address`,
      });
    const ip = parameters.get('IP');
    if (ip === undefined || ip === '') continue;
    if (!IPV4.test(ip))
      problems.push({ line, severity: 'problem', words: `the address of ${ied} is "${ip.slice(0, 40)}"` });
    const other = taken.get(ip);
    if (other !== undefined && other !== ied && ip !== '0.0.0.0')
      problems.push({ line, severity: 'warning', words: `${ied} and ${other} have the same address ${ip}` });
    taken.set(ip, ied);
  }
  return problems;
}

/** Selectors by the names of their parameters (IEC 61850-8-1, annex on SCL). */
const SELECTORS = [
  ['OSI-TSEL', 'transportSelector', 32],
  ['OSI-SSEL', 'sessionSelector', 16],
  ['OSI-PSEL', 'presentationSelector', 16],
] as const;

function settingsOf(address: ConnectedAccessPoint | undefined): Record<string, unknown> {
  const settings: Record<string, unknown> = {};
  if (address === undefined) return settings;
  for (const [parameter, setting, most] of SELECTORS) {
    const value = address.parameters.get(parameter);
    if (value !== undefined && new RegExp(`^([0-9A-Fa-f]{2}){0,${most}}$`).test(value)) settings[setting] = value;
  }
  const title = address.parameters
    .get('OSI-AP-Title')
    ?.replace(/[{}]/g, '')
    .trim()
    .replace(/[\s,]+/g, '.');
  if (title !== undefined && /^[0-2](\.\d{1,9}){1,15}$/.test(title)) settings.applicationTitle = title;
  const qualifier = Number(address.parameters.get('OSI-AE-Qualifier') ?? NaN);
  if (Number.isInteger(qualifier) && qualifier >= 0 && qualifier <= 65_535) settings.applicationQualifier = qualifier;
  return settings;
}

const portOf = (address: ConnectedAccessPoint | undefined): number | null => {
  const port = Number(address?.parameters.get('MMS-Port') ?? NaN);
  return Number.isInteger(port) && port >= 1 && port <= 65_535 ? port : null;
};

function deviceOf(own: readonly ConnectedAccessPoint[], ied: Ied, model: Model): DescribedDevice {
  const serving = ied.accessPoints.find(({ devices }) => devices.length > 0) ?? ied.accessPoints[0];
  const address = own.find(({ accessPoint }) => accessPoint === serving?.name) ?? own[0];
  const ip = address?.parameters.get('IP') ?? '';
  const nodes = ied.accessPoints.flatMap(({ devices }) => devices).flatMap(({ nodes: all }) => all);
  const reports = nodes.reduce((sum, node) => sum + node.reports.length, 0);
  const sets = nodes.reduce((sum, node) => sum + node.dataSets.length, 0);
  const points = pointsIn(ied, model);
  const plural = (count: number, one: string): string => `${count} ${one}${count === 1 ? '' : 's'}`;
  return {
    ...{ name: ied.name, description: ied.description, about: [ied.manufacturer, ied.type].filter(Boolean).join(' ') },
    ...{ host: IPV4.test(ip) ? ip : '', port: portOf(address), settings: settingsOf(address), points },
    notes: [plural(model.devices.length, 'logical device'), plural(sets, 'data set'), plural(reports, 'report')],
  };
}

function pointsIn(ied: Ied, model: Model): DescribedPoint[] {
  const places = new Map<string, { device: LDevice; node: Ln }>();
  for (const { devices } of ied.accessPoints)
    for (const device of devices)
      for (const node of device.nodes) places.set(`${deviceName(ied, device)}/${nodeName(node)}`, { device, node });
  const reported = model.devices.flatMap(({ name, nodes }) =>
    nodes.flatMap(({ name: node, dataSets }) => {
      const reports = places.get(`${name}/${node}`)?.node.reports ?? [];
      return dataSets
        .filter((set) => reports.some(({ dataSet }) => dataSet === set.name))
        .flatMap(({ members }) => members);
    }),
  );
  const byNode = new Map<string, Reference[]>();
  for (const member of reported) {
    const key = `${member.device}/${member.node}`;
    byNode.set(key, [...(byNode.get(key) ?? []), member]);
  }
  const names = new Map<string, number>();
  const pointOf = (kind: DescribedPoint['kind'], value: Reference): DescribedPoint => {
    const place = places.get(`${value.device}/${value.node}`);
    const isReported = (byNode.get(`${value.device}/${value.node}`) ?? []).some((member) => holds(member, value));
    return {
      ...{ kind, address: print(value), isReported, unit: unitOf(place?.node, value) },
      name: unique(nameOf(place?.node, value), names, value.fc === 'CO' ? ', control' : ''),
    };
  };
  const seen = pointsOf(model).map(({ kind, value }) => pointOf(kind, value));
  const operated = operablesOf(model)
    .filter(({ object }) => modelOf(places.get(`${object.device}/${object.node}`)?.node, object) !== 0)
    .map(({ kind, object }) => ({
      ...pointOf(kind, object),
      isReported: true,
      ...(kind === 'output' && isSwitch(object) ? { operations: ['trip', 'close'] as const } : {}),
    }));
  return [...seen, ...operated];
}

/** Positions of switches are tripped and closed. */
const isSwitch = ({ node, path }: Reference): boolean =>
  /^(CSWI|XCBR|XSWI)$/.test(partsOfName(node)?.class ?? '') && /^Pos/.test(path[0]);

/** The number of the control model that the file gives it; null: it does not say. */
function modelOf(node: Ln | undefined, { path }: Reference): number | null {
  const value = node?.values.get(`${path[0]}.ctlModel`)?.value;
  if (value === undefined) return null;
  const at = ['status-only', 'direct-with-normal-security', 'sbo-with-normal-security'].indexOf(value);
  return at >= 0 ? at : Number(value);
}

/** As the file describes it, or as the standard calls such an object. */
function nameOf(node: Ln | undefined, { path, node: name }: Reference): string {
  const [object] = path;
  const described =
    node?.values.get(`${object}.dU`)?.value || node?.values.get(`${object}.d`)?.value || node?.descriptions.get(object);
  const phase = path.find((part) => /^(phs[ABC]|neut|res)$/.test(part));
  const own = PHASES[phase ?? ''] ?? '';
  const parts = partsOfName(name);
  const usual = parts && objectInfo(parts.class, object)?.meaning;
  const base = described || `${name} ${usual && usual !== '' ? usual : object}`;
  return `${base}${own}`
    .replace(/[<>\p{Cc}]/gu, ' ')
    .trim()
    .slice(0, MOST_NAME);
}
const PHASES: Record<string, string> = { phsA: ' L1', phsB: ' L2', phsC: ' L3', neut: ' N', res: ' residual' };
const MOST_NAME = 70;

/** `tail`: what is behind it where it is taken; a number where that is taken as well. */
function unique(given: string, taken: Map<string, number>, tail: string): string {
  const name = taken.has(given) ? `${given}${tail}` : given;
  const count = (taken.get(name) ?? 0) + 1;
  taken.set(name, count);
  return count === 1 ? name : `${name} (${count})`;
}

function unitOf(node: Ln | undefined, { path }: Reference): string {
  if (node === undefined) return '';
  const at = (part: string): string | undefined => {
    for (let length = path.length; length > 0; length--) {
      const found = node.values.get([...path.slice(0, length), 'units', part].join('.'));
      if (found) return found.value;
    }
    return undefined;
  };
  const unit = at('SIUnit');
  if (unit === undefined) return '';
  const number = Number(unit);
  const multiplier = at('multiplier') ?? '';
  if (Number.isInteger(number)) return unitWords(number, Number(multiplier) || 0);
  // By their symbols, as files mostly write them.
  return `${multiplier}${unit}`.slice(0, 12);
}
