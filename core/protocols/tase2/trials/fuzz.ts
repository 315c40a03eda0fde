import type { FuzzReport } from '../../mms/trials/fuzz.ts';
import { fuzzSessions, type Fuzzed } from '../../mms/trials/sessionfuzz.ts';
import { TaseClient } from '../client/client.ts';
import type { Order } from '../order.ts';
import type { TaseAt, TaseTargetAt } from '../points.ts';
import { TaseServer } from '../server/server.ts';
import { clientSettings, serverSettings } from '../settings.ts';
import { Both, listed, offered } from './both.ts';

/* Hostile octets against our client and our server of an agreement: data sets, transfer sets, reports, controls, survey. */

const OFFERS = [
  offered('analog', 'TIE_MW', 'RealQTimeTag'),
  offered('doubleBit', 'BREAKER', 'State'),
  offered('counter', 'ENERGY', 'DiscreteExtended'),
  offered('output', 'TRIP', 'Command', { select: true }),
  offered('setpoint', 'LIMIT', 'SetpointReal'),
];
const LIST = [
  listed(1, 'analog', 'HALVIX/TIE_MW'),
  listed(2, 'doubleBit', 'HALVIX/BREAKER'),
  listed(3, 'counter', 'HALVIX/ENERGY', 'poll'),
];

/** What both ends said in one honest session, in order. */
function honest(): { octets: Uint8Array; fromClient: boolean }[] {
  const pair = new Both([...LIST], OFFERS, { client: { integrityMs: 1000 } }).start().run(200);
  pair.update('TIE_MW', 41.5);
  pair.update('BREAKER', 2);
  pair.run(1500);
  pair.control('HALVIX/TRIP', 'output', { operation: 'trip' });
  pair.control('HALVIX/LIMIT', 'setpoint', { counts: 3 });
  pair.command({ type: 'survey', id: 's' });
  pair.run(500);
  pair.command({ type: 'setPoints', points: LIST.slice(0, 1) });
  pair.run(500);
  return pair.sent;
}

export function fuzz(streams: number, random: () => number, clock: () => number): FuzzReport {
  const kit: Fuzzed<TaseAt, TaseTargetAt, Order> = {
    said: honest(),
    client: (now) =>
      new TaseClient(clientSettings.parse({ domain: 'HALVIX', pollMs: 500 }), now, {
        ...{ octetMs: 0, remembered: null, points: LIST, phase: 1 },
      }),
    server: (now) => new TaseServer(serverSettings.parse({}), OFFERS, now),
  };
  return fuzzSessions([kit], streams, random, clock);
}
