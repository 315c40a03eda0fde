import type { Client } from '../../client.ts';
import type { Server } from '../../server.ts';
import { mutated, type FuzzReport } from './fuzz.ts';

/*
 * Hostile octets against a client and a server of a protocol over MMS: what both say to each other over a whole honest
 * session, with octets changed, within an association that is well made most of the time. What must never happen: an
 * exception, a stream that takes long, a control that nobody gave, a value of no number.
 */

/** Two ends, and what they said in one honest session. */
export interface Fuzzed<Place, Target extends object, Order> {
  said: readonly { octets: Uint8Array; fromClient: boolean }[];
  client: (now: number) => Client<Place, Order, Uint8Array>;
  server: (now: number) => Server<Target>;
}

const MOST_MS = 1000;

export function fuzzSessions<Place, Target extends object, Order>(
  sessions: readonly Fuzzed<Place, Target, Order>[],
  streams: number,
  random: () => number,
  clock: () => number,
): FuzzReport {
  const report: FuzzReport = { streams: 0, taken: 0, longestMs: 0, problems: [] };
  const below = (most: number): number => Math.floor(random() * most);
  const kits = sessions.map((one) => ({
    ...one,
    fromClient: one.said.filter(({ fromClient }) => fromClient),
    fromServer: one.said.filter(({ fromClient }) => !fromClient),
  }));
  for (let n = 0; n < streams; n++) {
    const began = clock();
    const problem = (words: string): void => void report.problems.push(`stream ${n}: ${words}`);
    const isServer = n % 2 === 0;
    const kit = kits[(n >> 1) % kits.length];
    const from = isServer ? kit.fromClient : kit.fromServer;
    const count = below(from.length);
    const pieces = from.slice(0, count + 1 + below(8)).map(({ octets }, at) => {
      // What comes before is honest, mostly: then what is within the session is tried.
      const isHonest = at < count ? random() < 0.98 : random() < 0.2;
      return isHonest ? octets : mutated(octets, below);
    });
    try {
      if (isServer) toServer(kit.server, pieces, below, report, problem);
      else toClient(kit.client, pieces, below, report, problem);
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

const BEGAN = Date.UTC(2026, 10, 27, 6);

function toServer<Target extends object>(
  make: (now: number) => Server<Target>,
  pieces: readonly Uint8Array[],
  below: (most: number) => number,
  report: FuzzReport,
  problem: (words: string) => void,
): void {
  let now = BEGAN;
  const end = make(now);
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
}

function toClient<Place, Order>(
  make: (now: number) => Client<Place, Order, Uint8Array>,
  pieces: readonly Uint8Array[],
  below: (most: number) => number,
  report: FuzzReport,
  problem: (words: string) => void,
): void {
  let now = BEGAN;
  const end = make(now);
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
  for (const { rows } of end.details ?? []) if (rows.length > 1000) problem('more than a thousand rows');
  end.stop(now);
  drain();
}
