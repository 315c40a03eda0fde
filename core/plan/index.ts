import {
  checkConfiguration,
  differences,
  OBJECT_SCHEMAS,
  titleOf,
  valueAt,
  withValueAt,
  type Configuration,
  type ConfigurationProblem,
  type ObjectKind,
} from '../config/index.ts';
import { deviceOf, wayOut } from '../protocols/index.ts';

/** One line of the address plan: everything that has an endpoint, a port or an address. */
export interface PlanRow {
  kind: 'device' | 'outbound' | 'radio';
  code: string;
  station: string;
  name: string;
  /** Where it is: the endpoint that we call, or that we listen on. */
  host: string;
  port: number | null;
  ourAddress: number | null;
  theirAddress: number | null;
  /** Of a radio: address and prefix of its two networks. */
  radioSide: string;
  wiredSide: string;
  problems: ConfigurationProblem[];
}

/** The whole plan, with what is wrong beside each line. */
export function addressPlan(configuration: Configuration): PlanRow[] {
  const links = new Map(configuration.links.map((link) => [link.code, link]));
  const problems = new Map<string, ConfigurationProblem[]>();
  for (const problem of checkConfiguration(configuration)) {
    const { at } = problem;
    if (at === undefined || at.kind === 'point' || at.kind === 'mapping') continue;
    const key = `${at.kind} ${at.key}`;
    problems.set(key, [...(problems.get(key) ?? []), problem]);
  }
  const of = (kind: ObjectKind, code: string): ConfigurationProblem[] => problems.get(`${kind} ${code}`) ?? [];
  const none = { host: '', port: null, ourAddress: null, theirAddress: null, radioSide: '', wiredSide: '' };
  return [
    ...configuration.devices.map((device): PlanRow => {
      const link = links.get(device.link);
      return {
        ...none,
        kind: 'device',
        code: device.code,
        station: device.station,
        name: device.name,
        host: link?.host ?? '',
        port: link?.port ?? null,
        ...addressesOf(deviceOf(device.protocol), device.settings),
        problems: [...of('device', device.code), ...of('link', device.link)],
      };
    }),
    ...configuration.outbounds.map(({ code, centre, link, protocol, settings }): PlanRow => ({
      ...none,
      kind: 'outbound',
      code,
      station: '',
      name: centre,
      host: links.get(link)?.host ?? '',
      port: links.get(link)?.port ?? null,
      ...addressesOf(wayOut(protocol), settings),
      problems: [...of('outbound', code), ...of('link', link)],
    })),
    ...configuration.radios.map(({ code, station, name, radioSide, wiredSide }): PlanRow => ({
      ...none,
      kind: 'radio',
      code,
      station,
      name,
      radioSide: `${radioSide.address}/${radioSide.prefix}`,
      wiredSide: `${wiredSide.address}/${wiredSide.prefix}`,
      problems: of('radio', code),
    })),
  ];
}

type PlanSide = { plan: { ours: string | null; theirs: string | null } } | null;

/** What a protocol calls our and their address. */
function addressesOf(side: PlanSide, settings: object): Pick<PlanRow, 'ourAddress' | 'theirAddress'> {
  const of = (key: string | null | undefined): number | null => {
    const value = key == null ? null : valueAt(settings, key);
    return typeof value === 'number' ? value : null;
  };
  return { ourAddress: of(side?.plan.ours), theirAddress: of(side?.plan.theirs) };
}

const addressCells = (side: PlanSide): [path: string, column: string][] =>
  (
    [
      [side?.plan.ours, 'Our address'],
      [side?.plan.theirs, 'Their address'],
    ] as const
  ).flatMap(([key, column]) => (key == null ? [] : [[`settings.${key}`, column]]));

export const PLAN_HEADING = [
  'What',
  'Code',
  'Station',
  'Name',
  'Host',
  'Port',
  'Our address',
  'Their address',
  'Radio side',
  'Wired side',
] as const;

const textOf = (row: PlanRow): string[] => [
  row.kind,
  row.code,
  row.station,
  row.name,
  row.host,
  row.port === null ? '' : String(row.port),
  row.ourAddress === null ? '' : String(row.ourAddress),
  row.theirAddress === null ? '' : String(row.theirAddress),
  row.radioSide,
  row.wiredSide,
];

export const planTable = (rows: readonly PlanRow[]): string[][] => [[...PLAN_HEADING], ...rows.map(textOf)];

export interface PlanChange {
  kind: ObjectKind;
  key: string;
  document: unknown;
  words: string[];
  isNew: boolean;
}

export interface PlanProblem {
  row: number;
  column: string;
  value: string;
  words: string;
}

/**
 * Reads a plan back: changes of addresses, ports and names of what is there, and new radios. A device or an outbound
 * that is not there is told, not made: it needs more than a plan says. An empty cell leaves what is there.
 */
export function readPlan(
  rows: readonly (readonly string[])[],
  configuration: Configuration,
): { changes: PlanChange[]; problems: PlanProblem[] } {
  const changes = new Map<string, PlanChange>();
  const problems: PlanProblem[] = [];
  const heading = (rows[0] ?? []).map((cell) => cell.trim().toLowerCase());
  const columnOf = (title: string): number => heading.indexOf(title.toLowerCase());
  for (const title of ['What', 'Code'])
    if (columnOf(title) < 0) problems.push({ row: 1, column: title, value: '', words: 'this column is missing' });
  if (problems.length > 0) return { changes: [], problems };
  const seen = new Map<string, number>();

  rows.slice(1).forEach((cells, at) => {
    const row = at + 2;
    const cell = (title: string): string => (columnOf(title) < 0 ? '' : (cells[columnOf(title)] ?? '').trim());
    const blame = (column: string, words: string): void =>
      void problems.push({ row, column, value: cell(column).slice(0, 60), words });
    const [what, code] = [cell('What').toLowerCase(), cell('Code')];
    const twin = seen.get(`${what} ${code}`);
    if (twin !== undefined) return blame('Code', `row ${twin} has this code too`);
    seen.set(`${what} ${code}`, row);

    const edit = (kind: ObjectKind, key: string, before: unknown, fields: [path: string, column: string][]): void => {
      let document = before;
      for (const [path, column] of fields) {
        const text = cell(column);
        if (text === '') continue;
        const isNumber = typeof valueAt(before, path) === 'number';
        if (isNumber && !/^\d+$/.test(text)) {
          blame(column, 'is not a whole number');
          continue;
        }
        document = withValueAt(document as object, path, isNumber ? Number(text) : text);
      }
      const parsed = OBJECT_SCHEMAS[kind].safeParse(document);
      if (!parsed.success) {
        for (const issue of parsed.error.issues) {
          const field = fields.find(([path]) => path === issue.path.join('.'));
          blame(field?.[1] ?? 'Code', issue.message);
        }
        return;
      }
      const words = differences(before, parsed.data, kind);
      if (words.length > 0)
        changes.set(`${kind} ${key}`, {
          kind,
          key,
          document: parsed.data,
          words: [`${titleOf(kind, '', parsed.data)}: ${words.join(', ')}`],
          isNew: false,
        });
    };

    const editLink = (key: string): void => {
      const link = configuration.links.find((one) => one.code === key);
      if (link)
        edit('link', key, link, [
          ['host', 'Host'],
          ['port', 'Port'],
        ]);
    };

    switch (what) {
      case 'device': {
        const device = configuration.devices.find((one) => one.code === code);
        if (device === undefined) return blame('Code', 'there is no such device; add it under its station');
        const { points: _points, ...own } = device;
        edit('device', code, own, [
          ['name', 'Name'],
          ['station', 'Station'],
          ...addressCells(deviceOf(device.protocol)),
        ]);
        return editLink(device.link);
      }
      case 'outbound': {
        const outbound = configuration.outbounds.find((one) => one.code === code);
        if (outbound === undefined) return blame('Code', 'there is no such outbound; add it under its centre');
        const { mappings: _mappings, ...own } = outbound;
        edit('outbound', code, own, [['centre', 'Name'], ...addressCells(wayOut(outbound.protocol))]);
        return editLink(outbound.link);
      }
      case 'radio': {
        const known = configuration.radios.find((one) => one.code === code);
        const network = (column: string, before: unknown): unknown => {
          const text = cell(column);
          if (text === '') return before ?? { address: '', prefix: 24 };
          const [address, prefix] = text.split('/');
          return { address, prefix: prefix === undefined ? 24 : Number(prefix) };
        };
        const parsed = OBJECT_SCHEMAS.radio.safeParse({
          code,
          name: cell('Name') || known?.name,
          station: cell('Station') || known?.station,
          radioSide: network('Radio side', known?.radioSide),
          wiredSide: network('Wired side', known?.wiredSide),
        });
        if (!parsed.success) {
          const titles: Record<string, string> = {
            name: 'Name',
            station: 'Station',
            radioSide: 'Radio side',
            wiredSide: 'Wired side',
          };
          for (const issue of parsed.error.issues) blame(titles[String(issue.path[0])] ?? 'Code', issue.message);
          return;
        }
        const words = known ? differences(known, parsed.data, 'radio') : ['new'];
        if (words.length > 0)
          changes.set(`radio ${code}`, {
            kind: 'radio',
            key: code,
            document: parsed.data,
            words: [`${titleOf('radio', '', parsed.data)}: ${words.join(', ')}`],
            isNew: known === undefined,
          });
        return;
      }
      default:
        blame('What', 'is not device, outbound or radio');
    }
  });
  return { changes: [...changes.values()], problems };
}
