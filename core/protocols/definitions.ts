import { z } from 'zod';
import type { LinkType } from '../line/index.ts';
import type { PointKind } from '../point/index.ts';
import { NOT_ASKED, type Definition, type DeviceRole, type TargetAddressing, type WayOut } from './definition.ts';
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
import { jsonlines } from './jsonlines/definition.ts';
import { settings as linesSettings } from './jsonlines/settings.ts';
import { targetAtSchema as linesTargetAt } from './jsonlines/target.ts';
import { mqtt } from './mqtt/definition.ts';
import { publisherSettings as brokerSettings } from './mqtt/settings.ts';
import { targetAtSchema as brokerTargetAt } from './mqtt/target.ts';

/*
 * The definitions of all protocols: the registration that the browser loads too. Everybody else asks here and names
 * no protocol.
 */

/** The first is what every link carried before it said so. */
const DEFINITIONS = { dnp3, modbus, iec61850, tase2, supervision, jsonlines, mqtt } as const;
export type ProtocolCode = keyof typeof DEFINITIONS;
export const PROTOCOLS = Object.keys(DEFINITIONS) as [ProtocolCode, ...ProtocolCode[]];
export const [FIRST_PROTOCOL] = PROTOCOLS;

// ---- what a protocol says in the configuration's document

const linkedPart = z.discriminatedUnion('protocol', [
  z.object({ protocol: z.literal('dnp3'), settings: dnp3Settings.masterSettings }),
  z.object({ protocol: z.literal('modbus'), settings: modbusSettings.clientSettings }),
  z.object({ protocol: z.literal('iec61850'), settings: iecSettings.clientSettings }),
  z.object({ protocol: z.literal('tase2'), settings: taseSettings.clientSettings }),
]);
const sourcePart = z.object({ protocol: z.literal('supervision'), settings: supervisionSettings });
export const devicePart = z.discriminatedUnion('protocol', [...linkedPart.options, sourcePart]);
const offeredPart = z.discriminatedUnion('protocol', [
  z.object({ protocol: z.literal('dnp3'), settings: dnp3Settings.outstationSettings }),
  z.object({ protocol: z.literal('modbus'), settings: modbusSettings.serverSettings }),
  z.object({ protocol: z.literal('iec61850'), settings: iecSettings.serverSettings }),
  z.object({ protocol: z.literal('tase2'), settings: taseSettings.serverSettings }),
]);
const publishedPart = z.discriminatedUnion('protocol', [
  z.object({ protocol: z.literal('jsonlines'), settings: linesSettings }),
  z.object({ protocol: z.literal('mqtt'), settings: brokerSettings }),
]);
export const outboundPart = z.discriminatedUnion('protocol', [...offeredPart.options, ...publishedPart.options]);
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
  linesTargetAt,
  brokerTargetAt,
]);

/** Protocols of devices on links, of devices without one, in which we are asked, and in which we push. */
export type LinkedCode = z.infer<typeof linkedPart>['protocol'];
export type SourceCode = z.infer<typeof sourcePart>['protocol'];
export type DeviceCode = LinkedCode | SourceCode;
export type OfferedCode = z.infer<typeof offeredPart>['protocol'];
export type PublishedCode = z.infer<typeof publishedPart>['protocol'];
export type WayOutCode = OfferedCode | PublishedCode;

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
export type AnyDeviceRole = DeviceRole<DeviceSettings, DraftPointAt>;
export const definitionOf = (protocol: ProtocolCode): AnyDefinition =>
  DEFINITIONS[protocol] as unknown as AnyDefinition;

/** Protocols that devices speak, or that make points of what is known here. */
export const DEVICE_PROTOCOLS = PROTOCOLS.filter((code): code is DeviceCode => definitionOf(code).points !== null);
/** Protocols in which points are handed on. */
export const WAYS_OUT = PROTOCOLS.filter((code): code is WayOutCode => wayOut(code) !== null);

/** Whether its devices are on a link; the others tell of what is known here. */
export const isLinked = (protocol: ProtocolCode): boolean => definitionOf(protocol).device !== null;

/** What its devices are; of those without a link nothing is asked. */
export function deviceOf(protocol: ProtocolCode): AnyDeviceRole {
  const { device, source } = definitionOf(protocol);
  if (device !== null) return device;
  if (source === null) throw new Error(`${protocol} has no devices`);
  return { ...NOT_ASKED, ...source };
}

/** How points of its devices are addressed. */
export function pointsOf(protocol: ProtocolCode): NonNullable<AnyDefinition['points']> {
  const { points } = definitionOf(protocol);
  if (points === null) throw new Error(`${protocol} has no points`);
  return points;
}

/** How points are handed on in it; null: they are not. */
export function wayOut(protocol: ProtocolCode): WayOut<OutboundSettings, TargetPointAt> | null {
  const { offers, publishes } = definitionOf(protocol);
  return offers ?? publishes;
}

/** Where they are put there. */
export function targetsOf(protocol: ProtocolCode): TargetAddressing<TargetPointAt, OutboundSettings> {
  const way = wayOut(protocol);
  if (way === null) throw new Error(`${protocol} hands nothing on`);
  return way.targets;
}

/** What people may ask of a device beyond its points, in any protocol: what it is, its definition says. */
export const orderSchema: z.ZodType<unknown> = z.union(
  DEVICE_PROTOCOLS.map((code): z.ZodType<unknown> => deviceOf(code).orders.schema),
);

/** How frames are usually told apart on such a link; empty: there is no choice. */
export const usualFraming = (protocol: ProtocolCode, type: LinkType): string =>
  definitionOf(protocol).framings.find(({ links }) => links.includes(type))?.code ?? '';

/** A point of a list, of a draft, or as it is offered. */
type Addressed = Parameters<AnyDefinition['address']['print']>[0];

/** The text by which a point is known: `AI 7`; empty while it has no address. */
export const addressOf = (point: Addressed): string => definitionOf(point.at.protocol).address.print(point);

/** A text by whose order lists are sorted. */
export const sortOf = (point: Addressed): string => definitionOf(point.at.protocol).address.sort(point);

/** The point that an address as people write it means in a protocol, of the usual kind there; null: none. */
export const readAddress = (protocol: ProtocolCode, text: string): { kind: PointKind; at: PointAt } | null =>
  pointsOf(protocol).parse(text);

/** Its number in the series of its kind; null while it has no address. */
export const numberOf = ({ at }: { at: DraftPointAt }): number | null => pointsOf(at.protocol).number(at);

/** The same point at another number of its series. */
export const movedTo = <Point extends { at: DraftPointAt }>(point: Point, number: number | null): Point => ({
  ...point,
  at: pointsOf(point.at.protocol).withNumber(point.at, number),
});

const byText = (a: string, b: string): number => (a < b ? -1 : a > b ? 1 : 0);
export const inAddressOrder = (a: Addressed, b: Addressed): number => byText(sortOf(a), sortOf(b));
