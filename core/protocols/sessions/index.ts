import type { ClientSide } from '../client.ts';
import type { DeviceSettings, OutboundSettings, PointAt, ProtocolCode, TargetPointAt } from '../definitions.ts';
import * as dnp3 from '../dnp3/sessions.ts';
import * as iec61850 from '../iec61850/sessions.ts';
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

const CLIENTS: Record<ProtocolCode, unknown> = {
  dnp3: dnp3.client,
  modbus: modbus.client,
  iec61850: iec61850.client,
  tase2: tase2.client,
  supervision: null,
};
const SERVERS: Record<ProtocolCode, unknown> = {
  dnp3: dnp3.server,
  modbus: modbus.server,
  iec61850: iec61850.server,
  tase2: tase2.server,
  supervision: null,
};
const SOURCES: Record<ProtocolCode, unknown> = {
  dnp3: null,
  modbus: null,
  iec61850: null,
  tase2: null,
  supervision: supervision.source,
};

/** How devices on a link are spoken with. */
export function clientSide(protocol: ProtocolCode): AnyClientSide {
  const side = CLIENTS[protocol] as AnyClientSide | null;
  if (side === null) throw new Error(`${protocol} has no sessions of devices`);
  return side;
}

/** Where devices without a link have their readings from. */
export function sourceSide(protocol: ProtocolCode): SourceSide<PointAt> {
  const side = SOURCES[protocol] as SourceSide<PointAt> | null;
  if (side === null) throw new Error(`${protocol} has its readings from a link`);
  return side;
}

/** How centres are. */
export function serverSide(protocol: ProtocolCode): AnyServerSide {
  const side = SERVERS[protocol] as AnyServerSide | null;
  if (side === null) throw new Error(`${protocol} has no sessions of centres`);
  return side;
}
