import type { ClientSide } from '../client.ts';
import type { DeviceSettings, OutboundSettings, PointAt, ProtocolCode, TargetPointAt } from '../definitions.ts';
import * as dnp3 from '../dnp3/sessions.ts';
import * as modbus from '../modbus/sessions.ts';
import type { ServerSide } from '../server.ts';

/*
 * The sessions of all protocols: the registration that only engine and bench load. What belongs to a protocol is handed
 * to it alone.
 */

export type AnyClientSide = ClientSide<DeviceSettings, PointAt, unknown, unknown>;
export type AnyServerSide = ServerSide<OutboundSettings, TargetPointAt>;

const CLIENTS: Record<ProtocolCode, unknown> = { dnp3: dnp3.client, modbus: modbus.client };
const SERVERS: Record<ProtocolCode, unknown> = { dnp3: dnp3.server, modbus: modbus.server };

/** How devices are spoken with. */
export const clientSide = (protocol: ProtocolCode): AnyClientSide => CLIENTS[protocol] as AnyClientSide;

/** How centres are. */
export function serverSide(protocol: ProtocolCode): AnyServerSide {
  const side = SERVERS[protocol] as AnyServerSide | null;
  if (side === null) throw new Error(`${protocol} has no sessions of centres`);
  return side;
}
