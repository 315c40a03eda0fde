import { readConfiguration, type Configuration } from '@halvix/core/config';
import { CHANNELS } from '@halvix/core/path';
import { desc, sql } from 'drizzle-orm';
import type { Database } from '../open.ts';
import { pointIdentity, revision } from '../schema/index.ts';

export interface AppliedRevision {
  id: number;
  configuration: Configuration;
  author: string;
  note: string;
  applied: number;
}

/** The configuration that runs; null before the first one was applied. */
export async function newestRevision(database: Database): Promise<AppliedRevision | null> {
  const [row] = await database.select().from(revision).orderBy(desc(revision.id)).limit(1);
  if (row === undefined) return null;
  const read = readConfiguration(row.document);
  if (!read.ok) {
    const [first] = read.problem;
    throw new Error(`revision ${row.id} cannot be read: ${first.where}: ${first.words}`);
  }
  return { id: row.id, configuration: read.value, author: row.author, note: row.note, applied: row.applied };
}

/** The number of the newest revision, without reading it. */
export async function newestRevisionId(database: Database): Promise<number | null> {
  const [row] = await database.select({ id: revision.id }).from(revision).orderBy(desc(revision.id)).limit(1);
  return row?.id ?? null;
}

/** Stores a checked configuration as the newest revision, gives its points their numbers, and tells the engines. */
export async function applyConfiguration(
  database: Database,
  configuration: Configuration,
  author: string,
  note: string,
): Promise<number> {
  return database.transaction(async (tx) => {
    const points = configuration.devices.flatMap((device) =>
      device.points.map(({ kind, index }) => ({ device: device.code, kind, index })),
    );
    for (let at = 0; at < points.length; at += 5000)
      await tx
        .insert(pointIdentity)
        .values(points.slice(at, at + 5000))
        .onConflictDoNothing();
    const [row] = await tx
      .insert(revision)
      .values({ document: configuration, author, note, applied: Date.now() })
      .returning({ id: revision.id });
    await tx.execute(sql`select pg_notify(${CHANNELS.revision}, ${String(row.id)})`);
    return row.id;
  });
}

/** The numbers of all points, by device, kind and index. */
export class PointNumbers {
  private readonly numbers = new Map<string, number>();

  add(device: string, kind: string, index: number, id: number): void {
    this.numbers.set(`${device} ${kind} ${index}`, id);
  }

  get(device: string, kind: string, index: number): number | undefined {
    return this.numbers.get(`${device} ${kind} ${index}`);
  }
}

export async function pointNumbers(database: Database): Promise<PointNumbers> {
  const numbers = new PointNumbers();
  for (const row of await database.select().from(pointIdentity)) numbers.add(row.device, row.kind, row.index, row.id);
  return numbers;
}
