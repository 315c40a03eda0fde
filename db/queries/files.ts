import { and, desc, eq, getTableColumns, inArray, isNotNull, lt, notInArray, or, sql } from 'drizzle-orm';
import type { Database } from '../open.ts';
import { fileTransfer } from '../schema/index.ts';

const { content: _content, ...WITHOUT_CONTENT } = getTableColumns(fileTransfer);

/** A question about a device's files; the content of one that was read is got by itself. */
export type FileTransfer = Omit<typeof fileTransfer.$inferSelect, 'content'>;

/** Rows kept of each device. */
const KEPT = 200;

/** Puts a question into the table once; the same id again changes nothing. Returns whether it is new. */
export async function orderTransfer(
  database: Database,
  order: Pick<FileTransfer, 'id' | 'device' | 'what' | 'name' | 'requestedBy' | 'requested'>,
): Promise<boolean> {
  return database.transaction(async (tx) => {
    const newest = tx
      .select({ id: fileTransfer.id })
      .from(fileTransfer)
      .where(eq(fileTransfer.device, order.device))
      .orderBy(desc(fileTransfer.requested))
      .limit(KEPT - 1);
    await tx
      .delete(fileTransfer)
      .where(
        and(eq(fileTransfer.device, order.device), isNotNull(fileTransfer.ended), notInArray(fileTransfer.id, newest)),
      );
    const made = await tx
      .insert(fileTransfer)
      .values({ ...order, state: 'requested', octets: 0 })
      .onConflictDoNothing()
      .returning({ id: fileTransfer.id });
    return made.length > 0;
  });
}

/** Takes a question; null when another engine has it, or has not got the device. */
export async function claimTransfer(
  database: Database,
  id: string,
  engine: string,
  devices: readonly string[],
): Promise<FileTransfer | null> {
  if (devices.length === 0) return null;
  const [row] = await database
    .update(fileTransfer)
    .set({ state: 'running', engine })
    .where(
      and(eq(fileTransfer.id, id), eq(fileTransfer.state, 'requested'), inArray(fileTransfer.device, [...devices])),
    )
    .returning(WITHOUT_CONTENT);
  return row ?? null;
}

export async function noteTransfer(
  database: Database,
  id: string,
  progress: Partial<
    Pick<typeof fileTransfer.$inferSelect, 'state' | 'words' | 'octets' | 'entries' | 'content' | 'ended'>
  >,
): Promise<void> {
  await database.update(fileTransfer).set(progress).where(eq(fileTransfer.id, id));
}

/** What this engine had under way when it stopped, and what no engine has taken by `before`, has failed. */
export async function closeTransfers(database: Database, engine: string | null, before: number): Promise<void> {
  const mine = and(eq(fileTransfer.state, 'running'), eq(fileTransfer.engine, engine ?? ''));
  const stale = and(eq(fileTransfer.state, 'requested'), lt(fileTransfer.requested, before));
  await database
    .update(fileTransfer)
    .set({
      state: 'failed',
      words: sql`case when ${fileTransfer.state} = 'running' then 'the engine stopped before it was done'
        else 'no engine with this device took it' end`,
      ended: sql`now()`,
    })
    .where(engine === null ? stale : or(mine, stale));
}

/** Newest first. */
export async function transfersOf(database: Database, device: string): Promise<FileTransfer[]> {
  return database
    .select(WITHOUT_CONTENT)
    .from(fileTransfer)
    .where(eq(fileTransfer.device, device))
    .orderBy(desc(fileTransfer.requested))
    .limit(KEPT);
}

/** A file that was read, by the question's id. */
export async function fileOfTransfer(
  database: Database,
  id: string,
): Promise<{ device: string; name: string; content: Uint8Array } | null> {
  const [row] = await database
    .select()
    .from(fileTransfer)
    .where(and(eq(fileTransfer.id, id), isNotNull(fileTransfer.content)));
  return row?.content ? { device: row.device, name: row.name, content: row.content } : null;
}
