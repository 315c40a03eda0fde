import { z } from 'zod';
import type { LinkType } from '../line/linktype.ts';
import type { PointKind } from '../point/index.ts';
import type { Definition, TargetAddressing } from './definition.ts';
import { dnp3 } from './dnp3/definition.ts';
import * as dnp3Points from './dnp3/points.ts';
import * as dnp3Settings from './dnp3/settings.ts';
import { iec61850 } from './iec61850/definition.ts';
import * as iecPoints from './iec61850/points.ts';
import * as iecSettings from './iec61850/settings.ts';
import { modbus } from './modbus/definition.ts';
import * as modbusPoints from './modbus/points.ts';
import * as modbusSettings from './modbus/settings.ts';
import { tase2 } from './tase2/definition.ts';
import * as tasePoints from './tase2/points.ts';
import * as taseSettings from './tase2/settings.ts';
import { supervision, settings as supervisionSettings } from './supervision/definition.ts';
import * as supervisionPoints from './supervision/points.ts';

/*
 * The definitions of all protocols: the registration that the browser loads too. Everybody else asks here and names
 * no protocol.
 */

/** The first is what every link carried before it said so. */
const DEFINITIONS = { dnp3, modbus, iec61850, tase2, supervision } as const;
export type ProtocolCode = keyof typeof DEFINITIONS;
export const PROTOCOLS = Object.keys(DEFINITIONS) as [ProtocolCode, ...ProtocolCode[]];
export const [FIRST_PROTOCOL] = PROTOCOLS;

// ---- what a protocol says in the configuration's document

export const devicePart = z.discriminatedUnion('protocol', [
  z.object({ protocol: z.literal('dnp3'), settings: dnp3Settings.masterSettings }),
  z.object({ protocol: z.literal('modbus'), settings: modbusSettings.clientSettings }),
  z.object({ protocol: z.literal('iec61850'), settings: iecSettings.clientSettings }),
  z.object({ protocol: z.literal('tase2'), settings: taseSettings.clientSettings }),
  z.object({ protocol: z.literal('supervision'), settings: supervisionSettings }),
]);
export const outboundPart = z.discriminatedUnion('protocol', [
  z.object({ protocol: z.literal('dnp3'), settings: dnp3Settings.outstationSettings }),
  z.object({ protocol: z.literal('modbus'), settings: modbusSettings.serverSettings }),
  z.object({ protocol: z.literal('iec61850'), settings: iecSettings.serverSettings }),
  z.object({ protocol: z.literal('tase2'), settings: taseSettings.serverSettings }),
]);
export const pointAt = z.discriminatedUnion('protocol', [
  dnp3Points.pointAtSchema,
  modbusPoints.pointAtSchema,
  iecPoints.pointAtSchema,
  tasePoints.pointAtSchema,
  supervisionPoints.pointAtSchema,
]);
export const draftPointAt = z.discriminatedUnion('protocol', [
  dnp3Points.draftAtSchema,
  modbusPoints.draftAtSchema,
  iecPoints.draftAtSchema,
  tasePoints.draftAtSchema,
  supervisionPoints.draftAtSchema,
]);
export const targetPointAt = z.discriminatedUnion('protocol', [
  dnp3Points.targetAtSchema,
  modbusPoints.targetAtSchema,
  iecPoints.targetAtSchema,
  tasePoints.targetAtSchema,
]);

/** What people may ask of a device beyond its points, in any protocol: what it is, its definition says. */
export const orderSchema: z.ZodType<unknown> = z.union(
  PROTOCOLS.map((code): z.ZodType<unknown> => DEFINITIONS[code].device.orders.schema),
);

export type DeviceSettings = z.infer<typeof devicePart>['settings'];
export type OutboundSettings = z.infer<typeof outboundPart>['settings'];
export type PointAt = z.infer<typeof pointAt>;
export type DraftPointAt = z.infer<typeof draftPointAt>;
export type TargetPointAt = z.infer<typeof targetPointAt>;

// ---- asking

/** One of them, whichever: what belongs to it is handed to it alone. */
export type AnyDefinition = Definition<
  DeviceSettings,
  OutboundSettings,
  PointAt,
  DraftPointAt,
  TargetPointAt,
  ProtocolCode
>;
export const definitionOf = (protocol: ProtocolCode): AnyDefinition =>
  DEFINITIONS[protocol] as unknown as AnyDefinition;

/** How points are offered by a protocol that offers some. */
export const targetsOf = (protocol: ProtocolCode): TargetAddressing<TargetPointAt, OutboundSettings> => {
  const { outbound } = definitionOf(protocol);
  if (outbound === null) throw new Error(`${protocol} offers nothing`);
  return outbound.targets;
};
/** How frames are usually told apart on such a link; empty: there is no choice. */
export const usualFraming = (protocol: ProtocolCode, type: LinkType): string =>
  definitionOf(protocol).framings.find(({ links }) => links.includes(type))?.code ?? '';

/** Whether its devices are on a link; the others tell of what is known here. */
export const isLinked = (protocol: ProtocolCode): boolean => definitionOf(protocol).links.length > 0;

/** Protocols in which we offer points to others. */
export type OfferingCode = z.infer<typeof outboundPart>['protocol'];
export const OFFERING = PROTOCOLS.filter((code): code is OfferingCode => definitionOf(code).outbound !== null);

/** A point of a list, of a draft, or as it is offered. */
type Addressed = Parameters<AnyDefinition['points']['print']>[0];

/** The text by which a point is known: `AI 7`; empty while it has no address. */
export const addressOf = (point: Addressed): string => definitionOf(point.at.protocol).points.print(point);

/** A text by whose order lists are sorted. */
export const sortOf = (point: Addressed): string => definitionOf(point.at.protocol).points.sort(point);

/** The point that an address as people write it means in a protocol, of the usual kind there; null: none. */
export const readAddress = (protocol: ProtocolCode, text: string): { kind: PointKind; at: PointAt } | null =>
  definitionOf(protocol).points.parse(text);

/** Its number in the series of its kind; null while it has no address. */
export const numberOf = ({ at }: { at: DraftPointAt }): number | null => definitionOf(at.protocol).points.number(at);

/** The same point at another number of its series. */
export const movedTo = <Point extends { at: DraftPointAt }>(point: Point, number: number | null): Point => ({
  ...point,
  at: definitionOf(point.at.protocol).points.withNumber(point.at, number),
});

const byText = (a: string, b: string): number => (a < b ? -1 : a > b ? 1 : 0);
export const inAddressOrder = (a: Addressed, b: Addressed): number => byText(sortOf(a), sortOf(b));
