import { IecClient } from '../client/client.ts';
import { mutated, type FuzzReport } from '../../mms/trials/fuzz.ts';
import { IecServer } from '../server/server.ts';
import { clientSettings, serverSettings } from '../settings.ts';
import { bayText } from './bayfile.ts';
import { Both, listed, offered } from './both.ts';

/*
 * Hostile octets against our client and our server of models: what both say to each other over a whole session (model,
 * reports, controls, survey), with octets changed, within an association that is well made most of the time. What must
 * never happen: an exception, a stream that takes long, a control that nobody gave, a value of no number.
 */

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

const MOST_MS = 1000;

export function fuzz(streams: number, random: () => number, clock: () => number): FuzzReport {
  const report: FuzzReport = { streams: 0, taken: 0, longestMs: 0, problems: [] };
  const below = (most: number): number => Math.floor(random() * most);
  const sessions = [honest(), honestGiven()].map((said) =>
    [true, false].map((fromClient) => said.filter((one) => one.fromClient === fromClient)),
  );
  for (let n = 0; n < streams; n++) {
    const began = clock();
    const problem = (words: string): void => void report.problems.push(`stream ${n}: ${words}`);
    let now = Date.UTC(2026, 10, 27, 6);
    const isServer = n % 2 === 0;
    const isGiven = n % 4 >= 2;
    const [client, server] = sessions[isGiven ? 1 : 0];
    const [offers, points] = isGiven ? [GIVEN.offers, GIVEN.list] : [OFFERS, LIST];
    const from = isServer ? client : server;
    const count = below(from.length);
    const pieces = from.slice(0, count + 1 + below(8)).map(({ octets }, at) => {
      // What comes before is honest, mostly: then what is within the session is tried.
      const isHonest = at < count ? random() < 0.98 : random() < 0.2;
      return isHonest ? octets : mutated(octets, below);
    });
    try {
      if (isServer) {
        const end = new IecServer(
          serverSettings.parse({ maxClients: 2, ...(isGiven ? GIVEN.server : {}) }),
          offers,
          now,
        );
        let controls = 0;
        const drain = (): void => {
          for (const effect of end.take()) {
            if (effect.type === 'send') report.taken++;
            if (effect.type !== 'control') continue;
            controls++;
            const outcomes = effect.items.map(() => ({ result: 'done' as const, status: null, protocol: null }));
            end.command({ type: 'controlResult', token: effect.token, outcomes }, now);
          }
        };
        end.command({ type: 'came', peer: 1, from: '127.0.0.9' }, now);
        for (const octets of pieces) {
          end.command({ type: 'octets', peer: 1, octets }, now);
          now += below(50);
          end.wake(now);
          drain();
        }
        end.command({ type: 'went', peer: 1 }, now);
        drain();
        if (controls > pieces.length) problem(`${controls} controls of ${pieces.length} messages`);
      } else {
        const end = new IecClient(clientSettings.parse({ alsoPollMs: 500 }), now, {
          ...{ octetMs: 0, remembered: null, points, phase: 1 },
        });
        const drain = (): void => {
          for (const effect of end.take()) {
            if (effect.type === 'send') report.taken++;
            if (effect.type !== 'readings') continue;
            for (const reading of effect.readings) {
              if (!Number.isFinite(reading.raw)) problem(`a value ${reading.raw}`);
              effect.carried.words();
              effect.carried.form(reading);
              effect.carried.frames(reading);
            }
          }
        };
        end.start(now);
        for (const octets of pieces) {
          end.receiveEvent(octets, now);
          now += below(50);
          end.wake(now);
          drain();
        }
        for (const { rows } of end.details) if (rows.length > 1000) problem('more than a thousand rows');
        end.stop(now);
        drain();
      }
    } catch (error) {
      problem(error instanceof Error ? (error.stack ?? error.message) : String(error));
    }
    const took = clock() - began;
    report.longestMs = Math.max(report.longestMs, took);
    if (took > MOST_MS) problem(`${Math.round(took)} ms`);
    report.streams++;
  }
  return report;
}
