import { HOP_SCHEMAS, trailSchema, type HopKind, type Trail } from '@halvix/core/path';
import { CAUSES, LIMIT_LEVELS, TIME_SOURCES, type Reading } from '@halvix/core/point';
import { desc, eq, gt, lt, sql, type SQL } from 'drizzle-orm';
import type { z } from 'zod';
import { doubles, integers, lines, list, type Database } from '../open.ts';
import { hopState, journal, latest, trail } from '../schema/index.ts';
import type { StoredReading } from './history.ts';

/** Writes the latest reading of each point, in one statement; with `run` only while that run holds the lease. */
export async function writeLatest(database: Database, readings: readonly StoredReading[], run?: string): Promise<void> {
  if (readings.length === 0) return;
  const int = (pick: (row: StoredReading) => number): Buffer => integers(readings.map(pick));
  const double = (pick: (row: StoredReading) => number): Buffer => doubles(readings.map(pick));
  // Nulls where the list is at its end.
  const texts = readings.some((r) => r.text !== undefined) ? readings.map((r) => r.text ?? null) : [];
  await database.execute(sql`
    insert into latest (point_id, raw, value, text, quality, time, time_source, received, cause, limit_level)
    select point_id, raw, value, text, quality, to_timestamp(time / 1000), time_source, to_timestamp(received / 1000), cause,
      nullif(limit_level, -1)
    from unnest(
      ${int((r) => r.pointId)}::int[], ${double((r) => r.raw)}::float8[], ${double((r) => r.value)}::float8[],
      ${list(texts)}::text[], ${int((r) => r.quality)}::int[],
      ${double((r) => r.time)}::float8[], ${int((r) => TIME_SOURCES.indexOf(r.timeSource))}::int[],
      ${double((r) => r.received)}::float8[], ${int((r) => CAUSES.indexOf(r.cause))}::int[],
      ${int((r) => (r.limit ? LIMIT_LEVELS.indexOf(r.limit) : -1))}::int[]
    ) as given (point_id, raw, value, text, quality, time, time_source, received, cause, limit_level)
    ${whileHeld(run)}
    on conflict (point_id) do update set raw = excluded.raw, value = excluded.value, text = excluded.text, quality = excluded.quality,
      time = excluded.time, time_source = excluded.time_source, received = excluded.received, cause = excluded.cause,
      limit_level = excluded.limit_level`);
}

const whileHeld = (run: string | undefined): SQL =>
  run === undefined ? sql`` : sql`where exists (select from lease where lease.run = ${run})`;

/** The latest readings of some points, or of all. */
export async function latestOf(database: Database, pointIds?: readonly number[]): Promise<Map<number, Reading>> {
  if (pointIds?.length === 0) return new Map();
  const query = database.select().from(latest);
  // As one value: a list of parameters ends at 65 534.
  const wanted = pointIds && sql`${latest.pointId} = any(${sql.param(`{${pointIds.join(',')}}`)}::int[])`;
  const rows = await (wanted ? query.where(wanted) : query);
  return new Map(
    rows.map(({ limitLevel, text, ...row }) => [
      row.pointId,
      {
        ...row,
        ...(text === null ? {} : { text }),
        limit: limitLevel === null ? null : (LIMIT_LEVELS[limitLevel] ?? null),
        timeSource: TIME_SOURCES[row.timeSource] ?? 'receipt',
        cause: CAUSES[row.cause] ?? 'static',
      },
    ]),
  );
}

export type HopStateOf<Kind extends HopKind> = z.infer<(typeof HOP_SCHEMAS)[Kind]>;
export type HopStates = { [Kind in HopKind]: Map<string, { state: HopStateOf<Kind>; updated: number }> };

/** Each with its state as JSON. */
export async function writeHopStates(
  database: Database,
  engine: string,
  states: readonly { kind: HopKind; code: string; document: string }[],
  now: number,
  run?: string,
): Promise<void> {
  if (states.length === 0) return;
  await database.execute(sql`
    insert into hop_state (engine, kind, code, state, updated)
    select ${engine}, kind, code, state::jsonb, to_timestamp(${now}::float8 / 1000)
    from unnest(${lines(states.map((s) => s.kind))}, ${lines(states.map((s) => s.code))},
      ${lines(states.map((s) => s.document))}) as given (kind, code, state)
    ${whileHeld(run)}
    on conflict (engine, kind, code) do update set state = excluded.state, updated = excluded.updated`);
}

/** Forgets hops that are not this engine's any more, or in no configuration; it holds all links. */
export async function keepHopStates(
  database: Database,
  engine: string,
  kind: HopKind,
  codes: readonly string[],
): Promise<void> {
  await database.execute(
    sql`delete from hop_state where kind = ${kind} and (engine <> ${engine} or not (code = any(${list(codes)}::text[])))`,
  );
}

export async function hopStates(database: Database): Promise<HopStates> {
  const states: HopStates = {
    link: new Map(),
    lane: new Map(),
    detail: new Map(),
    device: new Map(),
    outbound: new Map(),
    engine: new Map(),
  };
  // Of what two engines have said of one hop the newest counts.
  for (const row of await database.select().from(hopState).orderBy(hopState.updated)) {
    const schema = HOP_SCHEMAS[row.kind as HopKind] as (typeof HOP_SCHEMAS)[HopKind] | undefined;
    const parsed = schema?.safeParse(row.state);
    if (parsed?.success)
      states[row.kind as HopKind].set(row.code, { state: parsed.data as never, updated: row.updated });
  }
  return states;
}

export async function writeTrails(database: Database, trails: readonly Trail[], now: number): Promise<void> {
  for (const document of trails)
    await database
      .insert(trail)
      .values({ pointId: document.pointId, document, updated: now })
      .onConflictDoUpdate({ target: trail.pointId, set: { document, updated: now } });
}

export async function trailOf(database: Database, pointId: number): Promise<Trail | null> {
  const [row] = await database.select().from(trail).where(eq(trail.pointId, pointId));
  const parsed = trailSchema.safeParse(row?.document);
  return parsed.success ? parsed.data : null;
}

export type JournalEntry = typeof journal.$inferSelect;
export type NewJournalEntry = Omit<JournalEntry, 'id'>;

export async function writeJournal(database: Database, entries: readonly NewJournalEntry[]): Promise<void> {
  if (entries.length > 0) await database.insert(journal).values([...entries]);
}

/** The newest entries, newest first. */
export async function journalEntries(database: Database, limit: number, afterId = 0): Promise<JournalEntry[]> {
  return database.select().from(journal).where(gt(journal.id, afterId)).orderBy(desc(journal.id)).limit(limit);
}

export async function dropOldJournal(database: Database, before: number): Promise<void> {
  await database.delete(journal).where(lt(journal.time, before));
}
