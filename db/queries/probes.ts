import {
  CHANNELS,
  NO_PROBE_RESULT,
  probeRequestSchema,
  probeResultSchema,
  type ProbeRequest,
  type ProbeResult,
  type ProbeState,
} from '@halvix/core/path';
import { and, eq, inArray, lt, sql } from 'drizzle-orm';
import { notify, type Database } from '../open.ts';
import { probe } from '../schema/index.ts';
import { putTriedAway, withOpenSecretsOf } from './secrets.ts';

export interface Probe {
  id: string;
  request: ProbeRequest;
  state: ProbeState;
  result: ProbeResult;
  requestedBy: string;
}

const KEPT_MS = 24 * 3_600_000;

const asProbe = (row: typeof probe.$inferSelect): Probe | null => {
  const request = probeRequestSchema.safeParse(row.request);
  const result = probeResultSchema.safeParse(row.result);
  if (!request.success) return null;
  return {
    id: row.id,
    request: request.data,
    state: row.state as ProbeState,
    result: result.success ? result.data : NO_PROBE_RESULT,
    requestedBy: row.requestedBy,
  };
};

type Transaction = Parameters<Parameters<Database['transaction']>[0]>[0];
type Try = ProbeRequest & { type: 'try' };

async function withSecretsAway(tx: Transaction, request: ProbeRequest, now: number): Promise<ProbeRequest> {
  if (request.type !== 'try') return request;
  const link = await putTriedAway(tx, 'link', request.link, now);
  return { ...request, link, device: await putTriedAway(tx, 'device', request.device, now) };
}

/** What is tried, with its secrets as they are; or why they cannot be had. */
export async function openedTry(database: Database, request: Try): Promise<{ request: Try; problem: string | null }> {
  const link = await withOpenSecretsOf(database, 'link', request.link);
  const device = await withOpenSecretsOf(database, 'device', request.device);
  const [closed] = [...link.closed, ...device.closed];
  return { request: { ...request, link: link.document, device: device.document }, problem: closed?.words ?? null };
}

/** Puts a probe into the table once, and tells the engines. */
export async function orderProbe(
  database: Database,
  id: string,
  given: ProbeRequest,
  requestedBy: string,
  now: number,
): Promise<void> {
  await database.transaction(async (tx) => {
    const request = await withSecretsAway(tx, given, now);
    await tx.delete(probe).where(lt(probe.requested, now - KEPT_MS));
    const made = await tx
      .insert(probe)
      .values({ id, request, state: 'requested', result: NO_PROBE_RESULT, requestedBy, requested: now, updated: now })
      .onConflictDoNothing()
      .returning({ id: probe.id });
    if (made.length > 0)
      await tx.execute(sql`select pg_notify(${CHANNELS.request}, ${JSON.stringify({ type: 'probe', id })})`);
  });
}

/** Takes a probe for execution; null when another engine has it, or nobody waits any more. */
export async function claimProbe(database: Database, id: string, engine: string, now: number): Promise<Probe | null> {
  const [row] = await database
    .update(probe)
    .set({ state: 'running', engine, updated: now })
    .where(and(eq(probe.id, id), eq(probe.state, 'requested')))
    .returning();
  return row === undefined ? null : asProbe(row);
}

export async function noteProbe(
  database: Database,
  id: string,
  state: ProbeState,
  result: ProbeResult,
  now: number,
): Promise<void> {
  await database
    .update(probe)
    .set({ state, result, updated: now })
    .where(and(eq(probe.id, id), inArray(probe.state, ['requested', 'running'])));
  await notify(database, CHANNELS.live, '');
}

export async function probeById(database: Database, id: string): Promise<Probe | null> {
  const [row] = await database.select().from(probe).where(eq(probe.id, id));
  return row === undefined ? null : asProbe(row);
}
