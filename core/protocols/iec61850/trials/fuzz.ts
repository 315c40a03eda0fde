import { IecClient } from '../client/client.ts';
import type { FuzzReport } from '../../mms/trials/fuzz.ts';
import { fuzzSessions, type Fuzzed } from '../../mms/trials/sessionfuzz.ts';
import type { Order } from '../order.ts';
import type { IecAt, IecTargetAt } from '../points.ts';
import { IecServer } from '../server.ts';
import { clientSettings, serverSettings } from '../settings.ts';
import { bayText } from './bayfile.ts';
import { Both, listed, offered } from './both.ts';

/* Hostile octets against our client and our server of models: over model, reports, controls, survey, and what is asked. */

const OFFERS = [
  offered('binary', 'HLM/GGIO1.Ind1[ST]', 'SPS'),
  offered('analog', 'HLM/GGIO1.AnIn1[MX]', 'MV'),
  offered('output', 'HLM/GGIO1.SPCSO1[CO]', 'SPC'),
  offered('setpoint', 'HLM/GGIO1.AnOut1[CO]', 'APC'),
  offered('text', 'HLM/GGIO1.TxtIn1[ST]', 'VSS'),
];
const LIST = [
  listed(1, 'binary', 'HLM/GGIO1.Ind1[ST]'),
  listed(2, 'analog', 'HLM/GGIO1.AnIn1[MX]'),
  listed(3, 'output', 'HLM/GGIO1.SPCSO1[CO]'),
  listed(4, 'setpoint', 'HLM/GGIO1.AnOut1[CO]'),
  listed(5, 'text', 'HLM/GGIO1.TxtIn1[ST]'),
];

/** A model from a file, with setting groups, logs and what can be replaced. */
const GIVEN = {
  offers: [offered('binary', 'BAY1/GGIO1.Ind1[ST]', 'SPS'), offered('output', 'BAY1/CSWI1.Pos[CO]', 'DPC')],
  list: [listed(1, 'binary', 'BAY1/GGIO1.Ind1[ST]'), listed(2, 'output', 'BAY1/CSWI1.Pos[CO]')],
  server: { modelFile: { name: 'bay.cid', text: bayText() } },
};

/** The same of such a model: what is asked for a person, and a control that is cancelled. */
function honestGiven(): { octets: Uint8Array; fromClient: boolean }[] {
  const pair = new Both([...GIVEN.list], GIVEN.offers, { server: GIVEN.server }).start();
  for (const value of [1, 0, 1]) pair.update('binary', 'BAY1/GGIO1.Ind1[ST]', 'SPS', value);
  pair.run(200);
  pair.ask({ what: 'overview' });
  pair.ask({ what: 'groupValues', device: 'BAY1', group: 2 });
  pair.ask({ what: 'useGroup', device: 'BAY1', group: 3 });
  const reference = 'BAY1/PTOC1.StrVal.setMag.f[SE]';
  pair.ask({ what: 'setInGroup', device: 'BAY1', group: 3, reference, value: '1.5' });
  pair.ask({ what: 'readLog', log: 'BAY1/LLN0$EventLog', minutes: 5 });
  pair.ask({ what: 'replaceable', device: 'BAY1' });
  pair.ask({ what: 'replace', reference: 'BAY1/GGIO1.Ind1', value: '0' });
  pair.ask({ what: 'block', reference: 'BAY1/GGIO1.Ind1', on: true });
  pair.ask({ what: 'letGo', reference: 'BAY1/GGIO1.Ind1' });
  pair.control('BAY1/CSWI1.Pos[CO]', 'output', { operation: 'close', mode: 'selectOnly' });
  pair.run(30_000);
  return pair.sent;
}

/** What both ends said in one honest session, in order. */
function honest(): { octets: Uint8Array; fromClient: boolean }[] {
  const pair = new Both([...LIST], OFFERS, { client: { alsoPollMs: 500 } }).start();
  pair.update('analog', 'HLM/GGIO1.AnIn1[MX]', 'MV', 41.5);
  pair.update('text', 'HLM/GGIO1.TxtIn1[ST]', 'VSS', 0, { text: 'x' });
  pair.run(600);
  pair.control('HLM/GGIO1.SPCSO1[CO]', 'output', { operation: 'close' });
  pair.control('HLM/GGIO1.AnOut1[CO]', 'setpoint', { counts: 3 });
  pair.command({ type: 'survey', id: 's' });
  pair.run(600);
  return pair.sent;
}

export function fuzz(streams: number, random: () => number, clock: () => number): FuzzReport {
  const points = { octetMs: 0, remembered: null, phase: 1 } as const;
  const settings = clientSettings.parse({ alsoPollMs: 500 });
  const kit = (
    said: ReturnType<typeof honest>,
    [list, offers]: [typeof LIST, typeof OFFERS],
    server: object,
  ): Fuzzed<IecAt, IecTargetAt, Order> => ({
    said,
    client: (now) => new IecClient(settings, now, { ...points, points: list }),
    server: (now) => new IecServer(serverSettings.parse({ maxClients: 2, ...server }), offers, now),
  });
  const kits = [kit(honest(), [LIST, OFFERS], {}), kit(honestGiven(), [GIVEN.list, GIVEN.offers], GIVEN.server)];
  return fuzzSessions(kits, streams, random, clock);
}
