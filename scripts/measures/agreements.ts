import type { ServerCommand, ServerUpdate } from '@halvix/core/protocols';
import {
  clientSettings,
  pointAtSchema,
  serverSettings,
  TaseClient,
  TaseServer,
  targetAtSchema,
  type TaseTargetAt,
} from '@halvix/core/protocols/tase2';
import { readSettings } from '@halvix/core/settings';
import { clock } from '@halvix/wire';
import { fileURLToPath } from 'node:url';
import { z } from 'zod';
import { clientOn, onDemand, pause, percentile, report, served, serverOn } from './loopback.ts';

/*
 * Transfer reports of agreements, on loopback: ten peers have 2,000 points each, the same ones, of which 1,000 change each
 * second, each with an agreement of its own: the time from a change to its reading at the peer, and how many are missing.
 */
const settings = readSettings(
  z.object({ HALVIX_MEASURE: z.enum(['report', 'serve']), HALVIX_MODEL_PORT: z.coerce.number().default(0) }),
  process.env,
);
if (!settings.ok) {
  process.stderr.write(`${settings.problem.join('\n')}\n`);
  process.exit(2);
}
const { HALVIX_MEASURE: measure, HALVIX_MODEL_PORT: port } = settings.value;
const PEERS = 10;
const VALUES = 2000;
const CHANGES = 1000;
const DOMAIN = 'HALVIX';
const nameOf = (n: number): string => `AN${n + 1}`;
// With milliseconds, by which the delay is measured.
const targets = Array.from({ length: VALUES }, (_, n): TaseTargetAt =>
  targetAtSchema.parse({ protocol: 'tase2', name: nameOf(n), type: 'RealQTimeTagExtended' }),
);

function serve(): void {
  const points = targets.map((at) => ({ kind: 'analog' as const, at, deadband: 0 }));
  const transfer = serverSettings.parse({ domain: DOMAIN, transferSets: 10 });
  const peers = Array.from({ length: PEERS }, (_, n) =>
    serverOn(port + n, new TaseServer(transfer, points, clock.now())),
  );
  let updates: ServerUpdate<TaseTargetAt>[] = [];
  onDemand(
    CHANGES,
    (made, time) => updates.push({ kind: 'analog', at: targets[made % VALUES], value: made, quality: 0, time }),
    () => {
      const command: ServerCommand<TaseTargetAt> = { type: 'update', updates };
      if (updates.length > 0) for (const peer of peers) peer.command(command);
      updates = [];
    },
  );
}

async function measureReports(): Promise<void> {
  const server = await served(fileURLToPath(import.meta.url), {});
  const points = targets.map(({ name }, id) => ({
    ...{ id, kind: 'analog' as const },
    at: pointAtSchema.parse({ protocol: 'tase2', domain: DOMAIN, name }),
  }));
  const delays: number[] = [];
  const seen = Array.from({ length: PEERS }, () => 0);
  let counting = false;
  const clients = Array.from({ length: PEERS }, (_, n) => {
    const client = new TaseClient(clientSettings.parse({ domain: DOMAIN, pollMs: 0, integrityMs: 0 }), clock.now(), {
      ...{ octetMs: 0, remembered: null, points, phase: 1 },
    });
    clientOn(port + n, client as never, (news) => {
      if (news.type !== 'readings' || !counting) return;
      const now = clock.now();
      for (const { event, time } of news.readings)
        if (event && time !== null) {
          seen[n]++;
          delays.push(now - time);
        }
    });
    return client;
  });
  while (clients.some(({ ways }) => ways.reported < VALUES)) await pause(50);
  await pause(2000);
  counting = true;
  await server.run(true);
  await pause(20_000);
  const made = await server.run(false);
  await pause(1000);
  server.stop();
  report('tase2.report_p50_ms', percentile(delays, 0.5), 'ms');
  report('tase2.report_p99_ms', percentile(delays, 0.99), 'ms', { better: 'lower', bound: 200 });
  const lost = seen.reduce((sum, one) => sum + Math.abs(made - one), 0);
  report('tase2.lost', lost, 'changes', { better: 'lower', bound: 0 });
  process.exit(0);
}

if (measure === 'serve') serve();
else await measureReports();
