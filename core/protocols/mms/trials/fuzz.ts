import { MmsClient } from '../client.ts';
import { MmsServer, type MmsObjects } from '../server.ts';
import type { Pdu } from '../wire/pdu.ts';
import { Pair, settings } from './pair.ts';
import { OTHERS, REQUESTS, RESPONSES, VALUES } from './samples.ts';

/*
 * Hostile octets against client and server of MMS, on every layer: what honest ends say to each other, with octets
 * changed, cut, doubled, left out and invented, in pieces of any size, before and within an association. What must never
 * happen: an exception, a stream that takes long, a write that nobody asked for, a message that is longer than agreed on.
 */

export interface FuzzReport {
  streams: number;
  /** Messages that an end took for such. */
  taken: number;
  longestMs: number;
  problems: string[];
}

/** A stream that takes longer than this has got stuck somewhere. */
const MOST_MS = 1000;
const MOST_OCTETS = 65_000 + 200;

/** What was honestly said, by who says it: the octets that make the association, and those within it. */
function honest(): Record<'caller' | 'called', Uint8Array[]> {
  const pair = new Pair().start();
  const within: Pdu[] = [...REQUESTS, ...RESPONSES, ...OTHERS];
  for (const pdu of within) pair.send(pdu.type === 'request' ? 'calling' : 'called', pdu);
  const of = (fromCaller: boolean): Uint8Array[] =>
    pair.sent.filter((one) => one.fromCaller === fromCaller).map(({ octets }) => octets);
  return { caller: of(true), called: of(false) };
}

const objects = (onWrite: () => void): MmsObjects => ({
  identity: { vendor: 'v', model: 'm', revision: 'r' },
  names: (of) => (of === 'domain' ? ['HLMF1'] : ['LLN0', 'MMXU1']),
  typeOf: () => ({ type: 'boolean' }),
  read: () => VALUES[0],
  write: (_variable, _value, done) => {
    onWrite();
    done(null);
  },
  list: () => null,
  defineList: () => null,
  deleteList: () => false,
});

/** The same octets with a few changed, cut, doubled, left out or invented. */
export function mutated(octets: Uint8Array, below: (most: number) => number): Uint8Array {
  const out = [...octets];
  for (let times = 1 + below(3); times > 0; times--)
    switch (below(5)) {
      case 0:
        out[below(out.length)] = below(256);
        break;
      case 1:
        out.splice(below(out.length), 1 + below(8));
        break;
      case 2:
        out.splice(below(out.length), 0, ...Array.from({ length: 1 + below(8) }, () => below(256)));
        break;
      case 3: {
        const at = below(out.length);
        out.splice(at, 0, ...out.slice(at, at + 1 + below(20)));
        break;
      }
      default:
        out[below(out.length)] ^= 1 << below(8);
    }
  return Uint8Array.from(out);
}

export function fuzz(streams: number, random: () => number, clock: () => number): FuzzReport {
  const report: FuzzReport = { streams: 0, taken: 0, longestMs: 0, problems: [] };
  const said = honest();
  const own = settings();
  const below = (most: number): number => Math.floor(random() * most);
  const pick = <One>(of: readonly One[]): One => of[below(of.length)];

  const changed = (octets: Uint8Array): Uint8Array => mutated(octets, below);

  for (let n = 0; n < streams; n++) {
    const began = clock();
    const towardsServer = n % 2 === 0;
    let writes = 0;
    const server = new MmsServer(
      settings({ ours: own.theirs, theirs: own.ours }),
      objects(() => writes++),
    );
    const client = new MmsClient({ ...settings(), responseTimeoutMs: 1000 }, () => report.taken++);
    const end = towardsServer ? server : client;
    const from = towardsServer ? said.caller : said.called;
    const drain = (): void => {
      for (const effect of end.take()) {
        if (effect.type === 'asked') server.accept(effect.caller.agreement);
        if (effect.type === 'request') report.taken++;
        if (effect.type === 'send' && effect.octets.length > MOST_OCTETS)
          report.problems.push(`stream ${n}: ${effect.octets.length} octets went out`);
      }
    };
    try {
      let now = 1000;
      end.start(now);
      drain();
      // The association as it should be, half of the time: then what is within it is tried.
      const isMade = random() < 0.7;
      const opening = from.slice(0, 2);
      for (const octets of opening) {
        end.receive(isMade ? octets : changed(octets), now);
        drain();
        drain();
      }
      if (!towardsServer && client.isOpen)
        for (const { service, request } of REQUESTS.slice(0, 4)) client.ask(service, request as never, () => {}, now);
      for (let messages = 1 + below(6); messages > 0; messages--) {
        const octets = pick(from.slice(2));
        const hostile = random() < 0.3 ? octets : changed(octets);
        for (let at = 0; at < hostile.length;) {
          const piece = 1 + below(hostile.length);
          end.receive(hostile.subarray(at, at + piece), now);
          at += piece;
        }
        drain();
        drain();
        now += below(800);
        end.wake(now);
      }
    } catch (error) {
      report.problems.push(`stream ${n}: ${error instanceof Error ? (error.stack ?? error.message) : String(error)}`);
    }
    // A changed write may well be another true one; more of them than messages cannot be.
    if (writes > 14) report.problems.push(`stream ${n}: ${writes} writes`);
    const took = clock() - began;
    report.longestMs = Math.max(report.longestMs, took);
    if (took > MOST_MS) report.problems.push(`stream ${n}: ${Math.round(took)} ms`);
    report.streams++;
  }
  return report;
}
