import type { FuzzReport } from '../../mms/trials/fuzz.ts';
import { fuzzSessions, type Fuzzed } from '../../mms/trials/sessionfuzz.ts';
import { TaseClient } from '../client/client.ts';
import type { Order } from '../order.ts';
import type { TaseAt, TaseTargetAt } from '../points.ts';
import { TaseServer } from '../server/server.ts';
import { clientSettings, serverSettings } from '../settings.ts';
import { Both, listed, offered } from './both.ts';

/*
 * Hostile octets against our client and our server of an agreement: data sets, transfer sets, reports
 * (packed ones too), controls, tags, messages, survey; alone, and with a guest in the association.
 */

const OFFERS = [
  offered('analog', 'TIE_MW', 'RealQTimeTag'),
  offered('doubleBit', 'BREAKER', 'State'),
  offered('counter', 'ENERGY', 'DiscreteExtended'),
  offered('output', 'TRIP', 'Command', { select: true, tag: true }),
  offered('setpoint', 'LIMIT', 'SetpointReal'),
];
const LIST = [
  listed(1, 'analog', 'HALVIX/TIE_MW'),
  listed(2, 'doubleBit', 'HALVIX/BREAKER'),
  listed(3, 'counter', 'HALVIX/ENERGY', 'poll'),
  listed(4, 'output', 'HALVIX/TRIP'),
];

const PACKED = { client: { blocked: true, integrityMs: 1000 }, server: { blocked: true } };

/** What both ends said in one honest session, in order. */
function honest(settings: { client?: object; server?: object }): { octets: Uint8Array; fromClient: boolean }[] {
  const pair = new Both([...LIST], OFFERS, settings).start().run(200);
  pair.update('TIE_MW', 41.5);
  pair.update('BREAKER', 2);
  pair.run(1500);
  pair.control('HALVIX/TRIP', 'output', { operation: 'trip' });
  pair.control('HALVIX/LIMIT', 'setpoint', { counts: 3 });
  pair.ask({ what: 'tag', point: 'HALVIX/TRIP', inhibits: 'close', reason: 'crew' });
  pair.serve({ type: 'order', order: 'message', text: 'Tie opens at 14:00' });
  pair.command({ type: 'survey', id: 's' });
  pair.run(500);
  pair.command({ type: 'setPoints', points: LIST.slice(0, 1) });
  pair.run(500);
  return pair.sent;
}

/** `shared`: each end is the host of a guest too, to whom it hands on what is not its own. */
function kit(
  { client, server }: { client?: object; server?: object },
  shared: boolean,
): Fuzzed<TaseAt, TaseTargetAt, Order> {
  return {
    said: honest({ client: { integrityMs: 1000, ...client }, server }),
    client: (now) => {
      const one = new TaseClient(clientSettings.parse({ domain: 'HALVIX', pollMs: 500, ...client }), now, {
        ...{ octetMs: 0, remembered: null, points: LIST, phase: 1 },
      });
      if (shared) one.command({ type: 'guest', what: 'comes' }, now);
      return one;
    },
    server: (now) => {
      const one = new TaseServer(serverSettings.parse({ ...server }), OFFERS, now);
      if (shared) one.command({ type: 'guest', what: 'comes' }, now);
      return one;
    },
  };
}

export const fuzz = (streams: number, random: () => number, clock: () => number): FuzzReport =>
  fuzzSessions([kit({}, false), kit(PACKED, false), kit(PACKED, true)], streams, random, clock);
