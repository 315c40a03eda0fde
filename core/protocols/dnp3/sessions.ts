import type { ClientSide } from '../client.ts';
import type { ServerSide } from '../server.ts';
import { Caller } from './client/caller.ts';
import { Dnp3Client } from './client/client.ts';
import { Trial } from './client/trial.ts';
import type { Order } from './order.ts';
import type { Dnp3At, Dnp3TargetAt } from './points.ts';
import { Dnp3Server } from './server/server.ts';
import type { MasterSettings, OutstationSettings } from './settings.ts';
import { linkFraming } from './wire/framing.ts';
import type { LinkEvent } from './wire/link.ts';

interface Addresses {
  ourAddress: number;
  theirAddress: number;
}

/** By the two addresses in a frame, who it is. */
function byAddresses(
  peers: readonly { code: string; settings: Addresses }[],
): (source: number, destination: number) => string | undefined {
  const codes = new Map(
    peers.map(({ code, settings }) => [`${settings.theirAddress} ${settings.ourAddress}`, code] as const),
  );
  return (source, destination) => codes.get(`${source} ${destination}`);
}

export const client: ClientSide<MasterSettings, Dnp3At, Order, LinkEvent> = {
  framing: () => linkFraming(),
  make: (settings, _framing, now, options) => new Dnp3Client(settings, now, options),
  recogniser: (devices) => new Caller(byAddresses(devices)),
  question: ({ ourAddress, theirAddress }) => Caller.question(ourAddress, theirAddress),
  trial: (settings, _framing, now) => new Trial(settings, now),
};

export const server: ServerSide<OutstationSettings, Dnp3TargetAt> = {
  // A newer connection of the centre takes over.
  peers: () => null,
  make: (settings, _link, points, now, remembered) => new Dnp3Server(settings, points, now, remembered),
  recogniser: (centres) => new Caller(byAddresses(centres), 'masters'),
};
