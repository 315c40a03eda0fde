import type { ClientSide } from '../client.ts';
import { CalledEnd } from '../mms/called.ts';
import { stream } from '../mms/stream.ts';
import type { ServerSide } from '../server.ts';
import { TaseClient } from './client/client.ts';
import { trial } from './client/trial.ts';
import type { Order } from './order.ts';
import type { TaseAt, TaseTargetAt } from './points.ts';
import { TaseServer } from './server/server.ts';
import type { ClientSettings, ServerSettings } from './settings.ts';

export const client: ClientSide<ClientSettings, TaseAt, Order, Uint8Array> = {
  framing: () => stream,
  make: (settings, _framing, now, options) => new TaseClient(settings, now, options),
  recogniser: () => null,
  question: () => null,
  trial: (settings) => trial(settings),
};

export const server: ServerSide<ServerSettings, TaseTargetAt> = {
  peers: ({ maxClients }) => Math.max(2, maxClients),
  make: (settings, _link, points, now, remembered) => new TaseServer(settings, points, now, remembered),
  recogniser: (centres) => new CalledEnd(centres),
};
