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
import { clientOn, onDemand, pause, served, serverOn, Spell } from './loopback.ts';

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
  const spell = new Spell(PEERS);
  const clients = Array.from({ length: PEERS }, (_, n) => {
    const client = new TaseClient(clientSettings.parse({ domain: DOMAIN, pollMs: 0, integrityMs: 0 }), clock.now(), {
      ...{ octetMs: 0, remembered: null, points, phase: 1 },
    });
    clientOn(port + n, client as never, (news) => spell.note(n, news));
    return client;
  });
  while (clients.some(({ ways }) => ways.reported < VALUES)) await pause(50);
  await spell.measure(server, {
    ...{ p50: 'tase2.report_p50_ms', p99: 'tase2.report_p99_ms', bound: 200, lost: 'tase2.lost' },
  });
  process.exit(0);
}

if (measure === 'serve') serve();
else await measureReports();
