import type { ClientSide } from '../client.ts';
import { ModbusClient } from './client/client.ts';
import { Trial } from './client/trial.ts';
import type { Order } from './order.ts';
import type { ModbusAt } from './points.ts';
import type { ClientSettings } from './settings.ts';
import { FRAMINGS, modbusFraming, type FramingName, type WireEvent } from './wire/frame.ts';

const named = (framing: string): FramingName => FRAMINGS.find((one) => one === framing) ?? 'tcp';

export const client: ClientSide<ClientSettings, ModbusAt, Order, WireEvent> = {
  framing: (framing, octetMs) => modbusFraming(named(framing), 'responses', octetMs),
  make: (settings, framing, now, options) => new ModbusClient(settings, named(framing), now, options),
  recogniser: () => null,
  question: () => null,
  trial: (settings, framing) => new Trial(settings, named(framing)),
};
