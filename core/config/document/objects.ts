import { z } from 'zod';
import { addressOf, draftPointAt, sortOf } from '../../protocols/index.ts';
import {
  deviceObjectSchema,
  linkSchema,
  mappingSchema,
  outboundObjectSchema,
  pointSchema,
  radioSchema,
  stationSchema,
  type Configuration,
  type MappingConfig,
  type PointConfig,
} from './document.ts';

/**
 * The configuration in pieces, as the draft keeps it: each piece can be changed, compared and refused by itself.
 * Points belong to their device, mappings to their outbound.
 */
export const OBJECT_KINDS = ['network', 'station', 'link', 'radio', 'device', 'point', 'outbound', 'mapping'] as const;
export type ObjectKind = (typeof OBJECT_KINDS)[number];

/** A point as it may stand in a draft: its address may be missing still. */
export const draftPointSchema = pointSchema.extend({ at: draftPointAt });
export type DraftPoint = z.infer<typeof draftPointSchema>;

/** What each kind of object may look like in a draft. */
export const OBJECT_SCHEMAS = {
  network: z.object({ network: stationSchema.shape.name }),
  station: stationSchema,
  link: linkSchema,
  radio: radioSchema,
  device: deviceObjectSchema,
  point: draftPointSchema,
  outbound: outboundObjectSchema,
  mapping: mappingSchema,
} as const;

export type ObjectDocument<Kind extends ObjectKind> = z.infer<(typeof OBJECT_SCHEMAS)[Kind]>;
export type DeviceObject = ObjectDocument<'device'>;
export type OutboundObject = ObjectDocument<'outbound'>;

export interface ConfigObject {
  kind: ObjectKind;
  /** Code of the device or outbound that it belongs to; empty for the others. */
  parent: string;
  document: unknown;
}

/** What an object is called among its like: its code, or its address. */
export function objectKey(kind: ObjectKind, document: unknown): string {
  switch (kind) {
    case 'network':
      return '';
    case 'point':
      return addressOf(document as DraftPoint) || `${(document as DraftPoint).kind} ?`;
    case 'mapping':
      return addressOf((document as MappingConfig).target);
    case 'station':
    case 'link':
    case 'radio':
    case 'device':
    case 'outbound':
      return (document as { code: string }).code;
    default:
      return kind satisfies never;
  }
}

export const decompose = (configuration: Configuration): ConfigObject[] => {
  const of = (kind: ObjectKind, documents: readonly unknown[], parent = ''): ConfigObject[] =>
    documents.map((document) => ({ kind, parent, document }));
  return [
    { kind: 'network', parent: '', document: { network: configuration.network } },
    ...of('station', configuration.stations),
    ...of('link', configuration.links),
    ...of('radio', configuration.radios),
    ...configuration.devices.flatMap(({ points, ...device }) => [
      ...of('device', [device]),
      ...of('point', points, device.code),
    ]),
    ...configuration.outbounds.flatMap(({ mappings, ...outbound }) => [
      ...of('outbound', [outbound]),
      ...of('mapping', mappings, outbound.code),
    ]),
  ];
};

const byAddress = <Item>(placeOf: (item: Item) => Parameters<typeof sortOf>[0]) => {
  const keys = new Map<Item, string>();
  const keyOf = (item: Item): string => {
    const key = keys.get(item) ?? sortOf(placeOf(item));
    keys.set(item, key);
    return key;
  };
  return (a: Item, b: Item): number => byText(keyOf(a), keyOf(b));
};
const byText = (a: string, b: string): number => (a < b ? -1 : a > b ? 1 : 0);
const byCode = (a: { code: string }, b: { code: string }): number => (a.code < b.code ? -1 : a.code > b.code ? 1 : 0);

/**
 * Puts the pieces together again, in an order that does not depend on theirs. The result has the shape of a
 * configuration but is not checked: a point may lack its address.
 */
export function compose(objects: readonly ConfigObject[]): Configuration {
  const of = <Document>(kind: ObjectKind): Document[] =>
    objects.filter((object) => object.kind === kind).map(({ document }) => document as Document);
  const grouped = <Document>(kind: ObjectKind): Map<string, Document[]> => {
    const groups = new Map<string, Document[]>();
    for (const object of objects) {
      if (object.kind !== kind) continue;
      const group = groups.get(object.parent);
      if (group) group.push(object.document as Document);
      else groups.set(object.parent, [object.document as Document]);
    }
    return groups;
  };
  const points = grouped<PointConfig>('point');
  const mappings = grouped<MappingConfig>('mapping');
  return {
    schema: 'halvix.configuration',
    version: 3,
    network: of<{ network: string }>('network')[0]?.network ?? 'New network',
    stations: of<Configuration['stations'][number]>('station').sort(byCode),
    links: of<Configuration['links'][number]>('link').sort(byCode),
    radios: of<Configuration['radios'][number]>('radio').sort(byCode),
    devices: of<DeviceObject>('device')
      .sort(byCode)
      .map((device) => ({
        ...device,
        points: (points.get(device.code) ?? []).sort(byAddress((point) => point)),
      })),
    outbounds: of<OutboundObject>('outbound')
      .sort(byCode)
      .map((outbound) => ({
        ...outbound,
        mappings: (mappings.get(outbound.code) ?? []).sort(byAddress(({ target }) => target)),
      })),
  };
}

/** The same in the one order in which configurations are kept: two that differ in nothing else are then the same. */
export const inOneOrder = (configuration: Configuration): Configuration => compose(decompose(configuration));

/** A text by which a point or mapping is sorted among its like; empty for other objects. */
export const objectSort = (kind: ObjectKind, document: unknown): string =>
  document === null
    ? ''
    : kind === 'point'
      ? sortOf(document as DraftPoint)
      : kind === 'mapping'
        ? sortOf((document as MappingConfig).target)
        : '';
