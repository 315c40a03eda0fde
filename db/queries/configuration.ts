import {
  allSecrets,
  compose,
  doorsOpened,
  OBJECT_SCHEMAS,
  type Doors,
  readConfiguration,
  type DeviceObject,
  type OutboundObject,
  type Configuration,
  type ConfigurationProblem,
  inOneOrder,
  storedNumber,
} from '@halvix/core/config';
import { CHANNELS } from '@halvix/core/path';
import { addressOf, definitionOf, pointsOf } from '@halvix/core/protocols';
import { desc, eq, sql } from 'drizzle-orm';
import { list, rowsOf, type Database } from '../open.ts';
import { pointIdentity, revision } from '../schema/index.ts';
import { putAllAway, unknownSecrets } from './secrets.ts';
import { readStored } from './stored.ts';
import { draftObjects, draftVersion, lockDraft, markApplied, replaceDraft } from './draft.ts';

export interface AppliedRevision {
  id: number;
  configuration: Configuration;
  author: string;
  note: string;
  applied: number;
  /** Number of the draft's object that each device is, by its code. */
  deviceIds: Readonly<Record<string, number>>;
}

const asRevision = async (row: typeof revision.$inferSelect): Promise<AppliedRevision> => ({
  id: row.id,
  configuration: await readStored(row.document),
  author: row.author,
  note: row.note,
  applied: row.applied,
  deviceIds: (row.deviceIds ?? {}) as Record<string, number>,
});

/** The configuration that runs; null before the first one was applied. */
export async function newestRevision(database: Database): Promise<AppliedRevision | null> {
  const [row] = await database.select().from(revision).orderBy(desc(revision.id)).limit(1);
  return row === undefined ? null : asRevision(row);
}

export async function revisionById(database: Database, id: number): Promise<AppliedRevision | null> {
  const [row] = await database.select().from(revision).where(eq(revision.id, id));
  return row === undefined ? null : asRevision(row);
}

/** What a revision lets somebody do who could not before it, in words for the security log. */
export async function doorsOpenedBy(database: Database, id: number): Promise<string[]> {
  const rows = await rowsOf<{ document: unknown }>(
    database,
    sql`select jsonb_build_object('links', document->'links', 'outbounds', (
        select coalesce(jsonb_agg(one - 'mappings'), '[]'::jsonb) from jsonb_array_elements(document->'outbounds') as one
      )) as document from revision where id <= ${id} order by id desc limit 2`,
  );
  const [after, before = NO_DOORS] = rows.map(({ document }) => doorsOf(document));
  return after === undefined ? [] : doorsOpened(before, after);
}

const NO_DOORS: Doors = { links: [], outbounds: [] };

/** What an earlier version wrote in another form is taken for closed: what is there now is said once more. */
function doorsOf(document: unknown): Doors {
  const { links, outbounds } = document as { links: unknown[]; outbounds: unknown[] };
  const read = <Item>(schema: { safeParse: (one: unknown) => { data?: Item } }, all: unknown[]): Item[] =>
    all.flatMap((one) => schema.safeParse(one).data ?? []);
  return { links: read(OBJECT_SCHEMAS.link, links), outbounds: read(OBJECT_SCHEMAS.outbound, outbounds) };
}

export type RevisionLine = Omit<AppliedRevision, 'configuration' | 'deviceIds'>;

/** The revisions without their documents, newest first. */
export async function revisionLines(database: Database, limit: number): Promise<RevisionLine[]> {
  const { id, author, note, applied } = revision;
  return database.select({ id, author, note, applied }).from(revision).orderBy(desc(revision.id)).limit(limit);
}

/** The number of the newest revision, without reading it. */
export async function newestRevisionId(database: Database): Promise<number | null> {
  const [row] = await database.select({ id: revision.id }).from(revision).orderBy(desc(revision.id)).limit(1);
  return row?.id ?? null;
}

type Transaction = Parameters<Parameters<Database['transaction']>[0]>[0];

/** Where a device's history, controls and files hang on its code, they follow it to its new one. */
async function followRenamed(
  tx: Transaction,
  deviceIds: Readonly<Record<string, number>>,
  devices: Configuration['devices'],
): Promise<void> {
  const [before] = await tx
    .select({ deviceIds: revision.deviceIds })
    .from(revision)
    .orderBy(desc(revision.id))
    .limit(1);
  const codeOf = new Map(Object.entries(deviceIds).map(([code, id]) => [id, code]));
  const renamed = Object.entries((before?.deviceIds ?? {}) as Record<string, number>).flatMap(([old, id]) => {
    const code = codeOf.get(id);
    return code === undefined || code === old ? [] : [{ old, code }];
  });
  if (renamed.length === 0) return;
  // By way of names that nobody has: two devices may swap theirs.
  for (const [from, to] of [
    ['old', 'way'],
    ['way', 'code'],
  ] as const)
    for (const { old, code } of renamed) {
      const way = `\u0001${old}`;
      const names = { old, way, code };
      for (const [table, column] of [
        ['point_identity', 'device'],
        ['replay_guard', 'device'],
        ['command', 'device'],
        ['file_transfer', 'device'],
      ]) {
        const target = sql.raw(table);
        // What an earlier device of that code left there stays with the code no more.
        if (from === 'way' && (table === 'point_identity' || table === 'replay_guard'))
          await tx.execute(
            sql`update ${target} set device = ${`\u0002${code} ${Date.now()}`} where ${sql.raw(column)} = ${names[to]}`,
          );
        await tx.execute(sql`update ${target} set device = ${names[to]} where ${sql.raw(column)} = ${names[from]}`);
      }
    }
  for (const device of devices) await followNamed(tx, device, new Map(renamed.map(({ old, code }) => [old, code])));
}

/** Points whose address names a device that is called otherwise now keep their number under their new address. */
async function followNamed(
  tx: Transaction,
  { code, protocol }: Configuration['devices'][number],
  renamed: ReadonlyMap<string, string>,
): Promise<void> {
  const { names, parse } = pointsOf(protocol);
  const { print } = definitionOf(protocol).address;
  if (names === undefined) return;
  const known = await tx.select().from(pointIdentity).where(eq(pointIdentity.device, code));
  const moved = known.flatMap(({ id, address }) => {
    const point = parse(address);
    const named = point && names.of(point.at);
    const next = named?.kind === 'device' ? renamed.get(named.code) : undefined;
    if (point == null || named == null || next === undefined) return [];
    return [{ id, address: print({ ...point, at: names.renamed(point.at, { ...named, code: next }) }) }];
  });
  // By way of addresses that nobody has; what an earlier point of that address left there stays with it no more.
  for (const { id, address } of moved) {
    await tx.execute(sql`update point_identity set address = ${`\u0002${address} ${Date.now()}`}
      where device = ${code} and address = ${address} and not (id = any(${list(moved.map((one) => one.id))}::int[]))`);
    await tx.execute(sql`update point_identity set address = ${`\u0001${address}`} where id = ${id}`);
  }
  for (const { id, address } of moved)
    await tx.execute(sql`update point_identity set address = ${address} where id = ${id}`);
}

/** Everything that is kept of an outbound follows it to its new code: its number does. */
async function followOutbounds(tx: Transaction, outboundIds: Readonly<Record<string, number>>): Promise<void> {
  const [before] = await tx
    .select({ outboundIds: revision.outboundIds })
    .from(revision)
    .orderBy(desc(revision.id))
    .limit(1);
  const codeOf = new Map(Object.entries(outboundIds).map(([code, id]) => [id, code]));
  const renamed = Object.entries((before?.outboundIds ?? {}) as Record<string, number>).flatMap(([old, id]) => {
    const code = codeOf.get(id);
    return code === undefined || code === old ? [] : [{ old, code, way: `\u0001${old}` }];
  });
  // By way of names that nobody has; what an earlier outbound of that code left there stays with it no more.
  for (const { old, way } of renamed)
    await tx.execute(sql`update outbound_identity set code = ${way} where code = ${old}`);
  for (const { way, code } of renamed) {
    await tx.execute(sql`update outbound_identity set code = ${`\u0002${code} ${Date.now()}`} where code = ${code}`);
    await tx.execute(sql`update outbound_identity set code = ${code} where code = ${way}`);
  }
  await tx.execute(
    sql`insert into outbound_identity (code) select unnest(${list(Object.keys(outboundIds))}::text[])
      on conflict (code) do nothing`,
  );
}

async function storeRevision(tx: Transaction, given: Configuration, author: string, note: string): Promise<number> {
  // A file may have another order than the draft: nothing has changed by that.
  const configuration = inOneOrder(given);
  const deviceIds = Object.fromEntries(
    (await draftObjects(tx, { kinds: ['device'] })).map(({ id, document }) => [(document as DeviceObject).code, id]),
  );
  const outboundIds = Object.fromEntries(
    (await draftObjects(tx, { kinds: ['outbound'] })).map(({ id, document }) => [
      (document as OutboundObject).code,
      id,
    ]),
  );
  await followRenamed(tx, deviceIds, configuration.devices);
  await followOutbounds(tx, outboundIds);
  const points = configuration.devices.flatMap((device) =>
    device.points.map((point) => ({ device: device.code, address: addressOf(point), kind: point.kind })),
  );
  await tx.execute(sql`
    insert into point_identity (device, address, kind)
    select item->>'device', item->>'address', item->>'kind'
    from jsonb_array_elements(${JSON.stringify(points)}::jsonb) as item
    on conflict (device, address) do update set kind = excluded.kind where point_identity.kind <> excluded.kind`);
  const [row] = await tx
    .insert(revision)
    .values({
      document: configuration,
      author,
      note,
      applied: Date.now(),
      draftVersion: await draftVersion(tx),
      deviceIds,
      outboundIds,
      sealed: allSecrets(configuration).every(({ value }) => storedNumber(value) !== null),
    })
    .returning({ id: revision.id });
  await markApplied(tx);
  await tx.execute(sql`select pg_notify(${CHANNELS.revision}, ${String(row.id)})`);
  return row.id;
}

/**
 * Stores a checked configuration as the newest revision, gives its points their numbers, and tells the engines. The
 * draft becomes the same.
 */
export async function applyConfiguration(
  database: Database,
  given: Configuration,
  author: string,
  note: string,
): Promise<number> {
  return database.transaction(async (tx) => {
    const configuration = await putAllAway(tx, given, Date.now());
    await replaceDraft(tx, configuration, author, Date.now());
    return storeRevision(tx, configuration, author, note);
  });
}

/** The same in place of the draft as it was seen at a version; null, and nothing done, when it changed since. */
export async function applyOverDraft(
  database: Database,
  seenVersion: number,
  given: Configuration,
  author: string,
  note: string,
): Promise<number | null> {
  return database.transaction(async (tx) => {
    const configuration = await putAllAway(tx, given, Date.now());
    const replaced = await replaceDraft(tx, configuration, author, Date.now(), seenVersion);
    return replaced ? storeRevision(tx, configuration, author, note) : null;
  });
}

export type ApplyOutcome =
  | { ok: true; revision: number }
  | { ok: false; reason: 'changed'; version: number }
  | { ok: false; reason: 'problems'; problems: ConfigurationProblem[] };

/** Applies the draft as it was seen at a version; refused when it changed since, or has problems. */
export async function applyDraft(
  database: Database,
  seenVersion: number,
  author: string,
  note: string,
): Promise<ApplyOutcome> {
  return database.transaction(async (tx) => {
    await lockDraft(tx);
    const version = await draftVersion(tx);
    if (version !== seenVersion) return { ok: false, reason: 'changed', version };
    const read = readConfiguration(compose(await draftObjects(tx)));
    if (!read.ok) return { ok: false, reason: 'problems', problems: read.problem };
    const unknown = await unknownSecrets(tx, read.value);
    if (unknown.length > 0) return { ok: false, reason: 'problems', problems: unknown };
    return { ok: true, revision: await storeRevision(tx, read.value, author, note) };
  });
}

/** The numbers of all points, by device and address. */
export class PointNumbers {
  private readonly numbers = new Map<string, number>();

  add(device: string, address: string, id: number): void {
    this.numbers.set(`${device} ${address}`, id);
  }

  get(device: string, address: string): number | undefined {
    return this.numbers.get(`${device} ${address}`);
  }
}

export async function pointNumbers(database: Database): Promise<PointNumbers> {
  const numbers = new PointNumbers();
  for (const row of await database.select().from(pointIdentity)) numbers.add(row.device, row.address, row.id);
  return numbers;
}
