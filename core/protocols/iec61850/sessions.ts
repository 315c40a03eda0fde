import type { ClientSide } from '../client.ts';
import { CalledEnd } from '../mms/called.ts';
import { stream } from '../mms/stream.ts';
import type { ServerSide } from '../server.ts';
import { IecClient } from './client/client.ts';
import { trial } from './client/trial.ts';
import type { Order } from './order.ts';
import type { IecAt, IecTargetAt } from './points.ts';
import { IecServer } from './server.ts';
import type { ClientSettings, ServerSettings } from './settings.ts';

export const client: ClientSide<ClientSettings, IecAt, Order, Uint8Array> = {
  framing: () => stream,
  make: (settings, _framing, now, options) => new IecClient(settings, now, options),
  recogniser: () => null,
  question: () => null,
  trial: (settings) => trial(settings),
};

export const server: ServerSide<ServerSettings, IecTargetAt> = {
  // One that is full says so itself: a client that is refused at the door would not know why.
  peers: ({ maxClients }) => Math.max(2, maxClients),
  make: (settings, _link, points, now, remembered) => new IecServer(settings, points, now, remembered),
  recogniser: (centres) => new CalledEnd(centres),
};
