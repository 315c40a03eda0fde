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

/** Puts a probe into the table once, and tells the engines. */
export async function orderProbe(
  database: Database,
  id: string,
  request: ProbeRequest,
  requestedBy: string,
  now: number,
): Promise<void> {
  await database.transaction(async (tx) => {
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
