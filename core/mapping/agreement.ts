import { addressOf, targetsOf, deviceOf, type TwoEnds } from '../protocols/index.ts';
import { outboundEnds, partnersOf, twoEnds, type Configuration, type OutboundConfig } from '../config/index.ts';
import { fieldOfHeading } from '../pointlist/index.ts';
import { isControl, isScaled, KIND_WORDS, scalingOf } from '../point/index.ts';

/** What we and one party have agreed on, in both directions; tables have a heading as their first row. */
export interface Agreement {
  party: string;
  /** How they get what we give, and how we get what they give; empty: nothing goes that way. */
  giving: TwoEnds[];
  getting: TwoEnds[];
  /** What we give, in the order of its addresses there. */
  given: string[][];
  /** What we get, in the order of the device's list. */
  got: string[][];
  /** Who operates what, in words. */
  operating: string[];
  /** The devices that are the same party; none: it gives us nothing. */
  devices: string[];
}

const period = (ms: number): string =>
  ms === 0 ? 'never' : ms % 60_000 === 0 ? `every ${ms / 60_000} min` : `every ${ms / 1000} s`;

/** The agreement with the party that an outbound leads to. */
export function agreementWith(
  outbound: OutboundConfig,
  { devices, links }: Pick<Configuration, 'devices' | 'links'>,
): Agreement {
  const { centre } = outbound;
  const linkOf = (code: string): Configuration['links'][number] | undefined => links.find((link) => link.code === code);
  const theirs = linkOf(outbound.link);
  const partners = partnersOf(outbound).flatMap((partner) => devices.filter(({ code }) => code === partner));
  const several = partners.length > 1;
  const getting = partners.flatMap((device): TwoEnds[] => {
    const link = linkOf(device.link);
    const terms = link ? [...twoEnds(device, link), ...periods(device)] : [];
    return several ? terms.map((one) => ({ ...one, what: `${device.code}: ${one.what}` })) : terms;
  });
  const operated = outbound.controls
    ? outbound.mappings.filter(({ target }) => isControl(target.kind) && target.mayControl).length
    : 0;
  const operable = partners.flatMap(({ points }) =>
    points.filter(({ kind, control, setting }) => isControl(kind) && (control ?? setting)),
  );
  return {
    party: centre,
    giving: theirs ? outboundEnds(outbound, theirs) : [],
    getting,
    given: givenRows(outbound, devices),
    got: [
      ['Address', 'Kind', 'Name', 'Unit', 'States', 'Direction'],
      ...partners.flatMap(({ code, points }) =>
        points.map((point) => [
          addressOf(point),
          KIND_WORDS[point.kind].short,
          `${code} ${point.name}`,
          point.unit,
          point.states?.join(' / ') ?? '',
          operable.includes(point) ? 'status to us, control from us' : 'to us',
        ]),
      ),
    ],
    operating: [
      operated === 0 ? `${centre} operates nothing of ours` : `${centre} operates ${operated} of ours`,
      ...(partners.length > 0
        ? [operable.length === 0 ? 'we operate nothing there' : `we operate ${operable.length} there`]
        : []),
    ],
    devices: partners.map(({ code }) => code),
  };
}

/** By which whoever gets it asks for it. */
const seenAddress = (
  target: OutboundConfig['mappings'][number]['target'],
  settings: OutboundConfig['settings'],
): string => targetsOf(target.at.protocol).seen?.(target, settings) ?? addressOf(target);

type ColumnName = 'address' | 'kind' | 'name' | 'unit' | 'states' | 'direction';
/** Which column of a list is what; states stand under their values in what is given. */
export function headingsOf(row: readonly string[]): Partial<Record<ColumnName, number>> {
  const words = row.map((cell) => cell.trim().toLowerCase());
  const keys = row.map(fieldOfHeading);
  const at = (key: string, heading = key): number | undefined =>
    [words.indexOf(heading), keys.indexOf(key)].find((column) => column >= 0);
  return {
    ...{ address: at('index', 'address'), kind: at('kind'), name: at('name'), unit: at('unit') },
    ...{ states: at('states') ?? at('value'), direction: at('direction') },
  };
}

/** What we give, in short: all else is in the map of the outbound. */
function givenRows({ mappings, controls, settings }: OutboundConfig, devices: Configuration['devices']): string[][] {
  const points = new Map(
    devices.flatMap(({ code, points }) => points.map((point) => [`${code} ${addressOf(point)}`, point] as const)),
  );
  return [
    ['Address', 'Kind', 'As', 'Name', 'Unit', 'Value', 'Direction'],
    ...mappings.flatMap(({ device, point: address, target }) => {
      const point = points.get(`${device} ${address}`);
      if (point === undefined) return [];
      const { gain, offset } = scalingOf(point);
      const raw = offset === 0 ? `× ${gain}` : `× ${gain} + ${offset}`;
      return [
        [
          seenAddress(target, settings),
          KIND_WORDS[target.kind].short,
          targetsOf(target.at.protocol).words(target),
          `${device} ${point.name}`,
          point.unit,
          !isScaled(target.kind) ? (point.states?.join(' / ') ?? '') : target.value === 'raw' ? raw : 'in units',
          isControl(target.kind) && controls && target.mayControl ? 'status to them, control from them' : 'to them',
        ],
      ];
    }),
  ];
}

/** How often we ask. */
const periods = ({ protocol, settings }: Configuration['devices'][number]): TwoEnds[] =>
  deviceOf(protocol)
    .polls(settings)
    .map(({ what, everyMs }) => ({
      what: `Asked for: ${what}`,
      ours: period(everyMs),
      theirs: everyMs === 0 ? 'is not asked' : 'answers',
      problem: null,
    }));

/** The whole agreement as one table: the terms first, then both lists. */
export function agreementTable(agreement: Agreement): string[][] {
  const { party, giving, getting, given, got, operating } = agreement;
  const terms = (title: string, rows: readonly TwoEnds[]): string[][] =>
    rows.length === 0 ? [] : [[title, 'Us', party], ...rows.map(({ what, ours, theirs }) => [what, ours, theirs]), []];
  const list = (title: string, rows: readonly string[][]): string[][] =>
    rows.length < 2 ? [] : [[title], ...rows, []];
  return [
    ...operating.map((words) => [words]),
    [],
    ...terms('How they get it', giving),
    ...terms('How we get it', getting),
    ...list(`We give ${party}`, given),
    ...list(`${party} gives us`, got),
  ];
}
