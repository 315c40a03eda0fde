import type { ClientSide } from '../client.ts';
import {
  definitionOf,
  type DeviceSettings,
  type LinkedCode,
  type OfferedCode,
  type OutboundSettings,
  type PointAt,
  type ProtocolCode,
  type PublishedCode,
  type SourceCode,
  type TargetPointAt,
} from '../definitions.ts';
import * as dnp3 from '../dnp3/sessions.ts';
import * as iec61850 from '../iec61850/sessions.ts';
import * as mqtt from '../mqtt/sessions.ts';
import { publishingSide } from '../publishing/publisher.ts';
import * as modbus from '../modbus/sessions.ts';
import type { ServerSide } from '../server.ts';
import type { SourceSide } from '../source.ts';
import * as tase2 from '../tase2/sessions.ts';
import * as supervision from '../supervision/sessions.ts';

/*
 * The sessions of all protocols: the registration that only engine and bench load. What belongs to a protocol is handed
 * to it alone.
 */

export type AnyClientSide = ClientSide<DeviceSettings, PointAt, unknown, unknown>;
export type AnyServerSide = ServerSide<OutboundSettings, TargetPointAt>;

/** Of some protocol: what is handed to it is its own, which TypeScript cannot know. */
/* eslint-disable @typescript-eslint/no-explicit-any */
const CLIENTS: Record<LinkedCode, ClientSide<any, any, any, any>> = {
  dnp3: dnp3.client,
  modbus: modbus.client,
  iec61850: iec61850.client,
  tase2: tase2.client,
};
const SERVERS: Record<OfferedCode, ServerSide<any, any>> & Partial<Record<PublishedCode, ServerSide<any, any>>> = {
  dnp3: dnp3.server,
  modbus: modbus.server,
  iec61850: iec61850.server,
  tase2: tase2.server,
  mqtt: mqtt.publisher,
};
const SOURCES: Record<SourceCode, SourceSide<any>> = {
  supervision: supervision.source,
};
/* eslint-enable @typescript-eslint/no-explicit-any */

const own = <Side>(sides: Readonly<Record<string, Side>>, protocol: ProtocolCode): Side | undefined =>
  Object.hasOwn(sides, protocol) ? sides[protocol] : undefined;

/** How devices on a link are spoken with. */
export function clientSide(protocol: ProtocolCode): AnyClientSide {
  const side = own(CLIENTS, protocol);
  if (side === undefined) throw new Error(`${protocol} has no sessions of devices`);
  return side;
}

/** Where devices without a link have their readings from. */
export function sourceSide(protocol: ProtocolCode): SourceSide<PointAt> {
  const side = own(SOURCES, protocol);
  if (side === undefined) throw new Error(`${protocol} has its readings from a link`);
  return side;
}

/** How centres are spoken with; what a carrier takes needs no session of its own. */
export function serverSide(protocol: ProtocolCode): AnyServerSide {
  const { address, publishes } = definitionOf(protocol);
  const side = publishes?.carried ? publishingSide(address.print, publishes.carried) : own(SERVERS, protocol);
  if (side === undefined) throw new Error(`${protocol} has no sessions of centres`);
  return side;
}
