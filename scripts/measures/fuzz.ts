import { chance, fuzz as fuzzDnp3 } from '../../core/protocols/dnp3/trials/fuzz.ts';
import { fuzz as fuzzModels } from '../../core/protocols/iec61850/trials/fuzz.ts';
import { fuzz as fuzzMms } from '../../core/protocols/mms/trials/fuzz.ts';
import { fuzz as fuzzAgreements } from '../../core/protocols/tase2/trials/fuzz.ts';
import { fuzz as fuzzModbus } from '../../core/protocols/modbus/trials/fuzz.ts';

/*
 * `npm run fuzz [-- STREAMS [SEED]]`: mutated streams against both ends of each protocol and the lane, by turns; a million
 * by default. Ends with 1 when one of them did harm.
 */
const streams = Number(process.argv[2] ?? 1_000_000);
const seed = Number(process.argv[3] ?? Date.now() % 1_000_000);
if (!Number.isInteger(streams) || streams < 1 || !Number.isInteger(seed)) {
  process.stderr.write('fuzz takes a number of streams, at least 1, and a whole number as seed\n');
  process.exit(2);
}
const SHARE = 50_000;
/** Growth of the heap over the whole campaign that counts as a leak. */
const MOST_GROWTH_MIB = 64;
const heap = (): number => {
  globalThis.gc?.();
  return process.memoryUsage().heapUsed / 2 ** 20;
};
const OTHERS = [fuzzModbus, fuzzMms, fuzzModels, fuzzAgreements] as const;
let [done, frames, longest] = [0, 0, 0];
const problems: string[] = [];
let first: number | null = null;
for (let share = 0; done < streams; share++) {
  const turn = share % (OTHERS.length + 1);
  // A session of models or of an agreement says more than the others: fewer of them take as long.
  const own = Math.min(turn >= 3 ? SHARE / 10 : SHARE, streams - done);
  const clock = (): number => performance.now();
  const report =
    turn === 0
      ? fuzzDnp3(own, seed + share, clock)
      : { framesTaken: 0, ...OTHERS[turn - 1](own, chance(seed + share), clock) };
  done += report.streams;
  frames += report.framesTaken;
  longest = Math.max(longest, report.longestMs);
  problems.push(...report.problems);
  first ??= heap();
  process.stderr.write(`${done} streams, ${problems.length} problems, heap ${heap().toFixed(0)} MiB\n`);
  if (problems.length > 20) break;
}
const growth = heap() - (first ?? 0);
if (growth > MOST_GROWTH_MIB) problems.push(`the heap grew by ${growth.toFixed(0)} MiB`);
for (const problem of problems) process.stderr.write(`${problem}\n`);
process.stdout.write(
  `${JSON.stringify({ streams: done, seed, framesTaken: frames, longestMs: Math.round(longest), heapGrowthMiB: Math.round(growth), problems: problems.length })}\n`,
);
process.exit(problems.length > 0 ? 1 : 0);
