import { CHANNELS, type CommandState } from '@halvix/core/path';
import { and, desc, eq, inArray, sql } from 'drizzle-orm';
import type { Database } from '../open.ts';
import { command } from '../schema/index.ts';

export type Command = typeof command.$inferSelect;

export type NewCommand = Pick<
  Command,
  | 'id'
  | 'pointId'
  | 'device'
  | 'address'
  | 'operation'
  | 'counts'
  | 'text'
  | 'mode'
  | 'onMs'
  | 'offMs'
  | 'count'
  | 'requestedBy'
  | 'outbound'
  | 'requested'
  | 'expires'
>;

/**
 * Puts a command into the table once: the same id again changes nothing. Returns the row as it stands, and whether it
 * is new.
 */
export async function orderCommand(database: Database, order: NewCommand): Promise<{ row: Command; isNew: boolean }> {
  return database.transaction(async (tx) => {
    const inserted = await tx
      .insert(command)
      .values({ ...order, state: 'requested' })
      .onConflictDoNothing()
      .returning();
    if (inserted.length > 0) {
      await tx.execute(sql`select pg_notify(${CHANNELS.command}, ${order.id})`);
      return { row: inserted[0], isNew: true };
    }
    const [row] = await tx.select().from(command).where(eq(command.id, order.id));
    return { row, isNew: false };
  });
}

/**
 * Takes requested commands of some devices for execution, each at most once whoever asks; those whose time is over are
 * marked expired instead. Returns both kinds, in the order in which they were made. With `run` only while that run holds the lease.
 */
export async function claimCommands(
  database: Database,
  engine: string,
  devices: readonly string[],
  now: number,
  run?: string,
): Promise<Command[]> {
  if (devices.length === 0) return [];
  const at = new Date(now).toISOString();
  const open = sql`(select id from command where state = 'requested' and device in ${[...devices]}
    order by number for update skip locked)`;
  const expired = sql`expires <= ${at}::timestamptz`;
  const claimed = await database
    .update(command)
    .set({
      state: sql`case when ${expired} then 'expired' else 'claimed' end`,
      words: sql`case when ${expired} then 'it had expired before the engine took it' end`,
      ended: sql`case when ${expired} then ${at}::timestamptz end`,
      claimed: now,
      engine,
    })
    .where(
      run === undefined
        ? sql`${command.id} in ${open}`
        : sql`${command.id} in ${open} and exists (select from lease where lease.run = ${run})`,
    )
    .returning();
  return claimed.sort((a, b) => a.number - b.number);
}

export type CommandProgress = Partial<
  Pick<Command, 'status' | 'words' | 'sent' | 'selected' | 'operated' | 'confirmed' | 'ended'>
> & { state?: CommandState };

export async function noteCommand(database: Database, id: string, progress: CommandProgress): Promise<void> {
  // What was closed for an engine that died is not opened again by one that only slept.
  await database
    .update(command)
    .set(progress)
    .where(and(eq(command.id, id), sql`${command.state} <> 'interrupted'`));
}

/** Commands that an engine had taken when it stopped: nobody knows how far they got, and they are not sent again. */
export async function closeInterrupted(database: Database, now: number): Promise<number> {
  const closed = await database
    .update(command)
    .set({
      state: sql`case when ${command.state} = 'operated' then 'unconfirmed' else 'interrupted' end`,
      words: 'the engine stopped before it knew the outcome; not sent again',
      ended: now,
    })
    .where(and(inArray(command.state, ['claimed', 'operated']), sql`${command.ended} is null`))
    .returning({ id: command.id });
  return closed.length;
}

/** Commands whose time is over and that no engine has taken. */
export async function expireCommands(database: Database, now: number): Promise<number> {
  const expired = await database
    .update(command)
    .set({ state: 'expired', words: 'no engine took it in time; nothing was sent', ended: now })
    .where(and(eq(command.state, 'requested'), sql`${command.expires} <= ${new Date(now).toISOString()}::timestamptz`))
    .returning({ id: command.id });
  return expired.length;
}

export async function commandById(database: Database, id: string): Promise<Command | null> {
  const [row] = await database.select().from(command).where(eq(command.id, id));
  return row ?? null;
}

export async function commandsOfPoint(database: Database, pointId: number, limit: number): Promise<Command[]> {
  return database
    .select()
    .from(command)
    .where(eq(command.pointId, pointId))
    .orderBy(desc(command.requested))
    .limit(limit);
}

export async function recentCommands(database: Database, limit: number): Promise<Command[]> {
  return database.select().from(command).orderBy(desc(command.requested)).limit(limit);
}
