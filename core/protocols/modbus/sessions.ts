import type { ClientSide, Recogniser } from '../client.ts';
import { ModbusClient } from './client/client.ts';
import { Trial } from './client/trial.ts';
import type { Order } from './order.ts';
import type { ModbusAt } from './points.ts';
import type { Instant } from '../../session/index.ts';
import type { LinkTiming } from '../definition.ts';
import type { ServerSide } from '../server.ts';
import type { ModbusTargetAt } from './points.ts';
import { BROADCAST, WHOEVER } from './server/responder.ts';
import { ModbusServer } from './server/server.ts';
import type { ClientSettings, ServerSettings } from './settings.ts';
import { framingNamed, modbusFraming, type WireEvent } from './wire/frame.ts';

export const client: ClientSide<ClientSettings, ModbusAt, Order, WireEvent> = {
  framing: (framing, octetMs) => modbusFraming(framingNamed(framing), 'responses', octetMs),
  make: (settings, framing, now, options) => new ModbusClient(settings, framingNamed(framing), now, options),
  recogniser: () => null,
  question: () => null,
  trial: (settings, framing) => new Trial(settings, framingNamed(framing)),
};

/** Whoever asks our unit is one of its clients. */
class Units implements Recogniser {
  private readonly wire;
  private readonly isTcp: boolean;

  constructor(
    private readonly codes: ReadonlyMap<number, string>,
    { framing, octetMs }: LinkTiming,
  ) {
    this.isTcp = framingNamed(framing) === 'tcp';
    this.wire = modbusFraming(framingNamed(framing), 'requests', octetMs);
  }

  push(bytes: Uint8Array, now: Instant): string[] {
    return this.wire.push(bytes, now).flatMap((event) => (event.type === 'frame' ? this.meant(event.unit) : []));
  }

  private meant(unit: number): readonly string[] {
    const own = this.codes.get(unit);
    if (own !== undefined) return [own];
    const all = [...this.codes.values()];
    if (this.isTcp) return WHOEVER.includes(unit) && all.length === 1 ? all : [];
    return unit === BROADCAST ? all : [];
  }
}

export const server: ServerSide<ServerSettings, ModbusTargetAt> = {
  peers: ({ maxClients }) => maxClients,
  make: (settings, link, points, now) =>
    new ModbusServer(settings, framingNamed(link.framing), link.octetMs, points, now),
  recogniser: (centres, link) => new Units(new Map(centres.map(({ code, settings }) => [settings.unitId, code])), link),
};
