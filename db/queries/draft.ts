import {
  compacted,
  expanded,
  compose,
  decompose,
  objectKey,
  objectSort,
  sameDocument,
  type Configuration,
  type ConfigObject,
  type ObjectKind,
} from '@halvix/core/config';
import { CHANNELS } from '@halvix/core/path';
import { and, asc, eq, gt, inArray, isNotNull, sql } from 'drizzle-orm';
import { list, rowsOf, type Database } from '../open.ts';
import { draftObject, revision } from '../schema/index.ts';
import { putAway } from './secrets.ts';
import { readStored } from './stored.ts';
import { changesAlong } from './draftalong.ts';
import type { ChangedObject, DraftChange, DraftConflict, DraftObject, Written } from './draftobject.ts';

export type DraftOutcome =
  { ok: true; version: number; changed: ChangedObject[] } | { ok: false; conflicts: DraftConflict[] };

type Transaction = Parameters<Parameters<Database['transaction']>[0]>[0];
const DRAFT_LOCK = 4601;
const CHUNK = 2000;

const asObject = ({ applied: _, ...row }: typeof draftObject.$inferSelect): DraftObject => {
  const kind = row.kind as ObjectKind;
  return { ...row, kind, document: expanded(kind, row.document) };
};

/** Objects of the draft, oldest first; `after` gives those changed since a version, deleted ones among them. */
export async function draftObjects(
  database: Database | Transaction,
  filter: { kinds?: readonly ObjectKind[]; parent?: string; after?: number } = {},
): Promise<DraftObject[]> {
  const rows = await database
    .select()
    .from(draftObject)
    .where(
      and(
        filter.kinds ? inArray(draftObject.kind, [...filter.kinds]) : undefined,
        filter.parent === undefined ? undefined : eq(draftObject.parent, filter.parent),
        filter.after === undefined ? isNotNull(draftObject.document) : gt(draftObject.version, filter.after),
      ),
    )
    .orderBy(asc(draftObject.id));
  return rows.map(asObject);
}

/**
 * Points or mappings as JSON text, a row each: `[id, version, parent, document]` with compact documents. For lists of
 * 100 000, which nobody here needs to look at.
 */
export async function draftRowsText(
  database: Database,
  kind: 'point' | 'mapping',
  parents: readonly string[] | null,
  limit: number | null = null,
): Promise<string> {
  const [row] = await rowsOf<{ text: string | null }>(
    database,
    sql`
    select '[' || string_agg(row, ',') || ']' as text from (
      select '[' || id || ',' || version || ',' || to_json(parent) || ',' || document::text || ']' as row
      from draft_object
      where kind = ${kind} and document is not null
        ${parents === null ? sql`` : sql`and parent = any(${list(parents)}::text[])`}
      order by parent, sort, id
      ${limit === null ? sql`` : sql`limit ${limit}`}
    ) as rows`,
  );
  return row.text ?? '[]';
}

export async function countDraftRows(
  database: Database,
  kind: 'point' | 'mapping',
  parents: readonly string[] | null,
): Promise<number> {
  const [row] = await rowsOf<{ count: string }>(
    database,
    sql`
    select count(*) as count from draft_object where kind = ${kind} and document is not null
      ${parents === null ? sql`` : sql`and parent = any(${list(parents)}::text[])`}`,
  );
  return Number(row.count);
}

/** How many points each device has, and mappings each outbound. */
export async function draftCounts(
  database: Database,
): Promise<{ points: Record<string, number>; mappings: Record<string, number> }> {
  const rows = await rowsOf<{ kind: string; parent: string; count: string }>(
    database,
    sql`
    select kind, parent, count(*) as count from draft_object
    where kind in ('point', 'mapping') and document is not null group by kind, parent`,
  );
  const of = (kind: string): Record<string, number> =>
    Object.fromEntries(rows.filter((row) => row.kind === kind).map(({ parent, count }) => [parent, Number(count)]));
  return { points: of('point'), mappings: of('mapping') };
}

/** What the newest revision has of an object, as `applied` keeps it. */
const AS_APPLIED = sql`case when document is null then null else jsonb_build_array(parent, document) end`;

/** The draft as it stands became the newest revision. */
export const markApplied = (tx: Transaction): Promise<unknown> =>
  tx.execute(sql`update draft_object set applied = ${AS_APPLIED} where applied is distinct from ${AS_APPLIED}`);

/** How many objects differ from the newest revision. */
export async function touchedSinceRevision(database: Database): Promise<number> {
  const [row] = await rowsOf<{ count: string }>(
    database,
    sql`
    select count(*) as count from draft_object
    where version > coalesce((select draft_version from revision order by id desc limit 1), 0)
      and applied is distinct from ${AS_APPLIED}`,
  );
  return Number(row.count);
}

/** The version of the newest change; 0 before the first one. */
export async function draftVersion(database: Database | Transaction): Promise<number> {
  const [row] = await database.select({ version: sql<string | null>`max(${draftObject.version})` }).from(draftObject);
  return Number(row.version ?? 0);
}

/** The draft as a configuration; it need not be one that can be applied. */
export async function loadDraft(database: Database): Promise<{ configuration: Configuration; version: number }> {
  return database.transaction(async (tx) => {
    const objects = await draftObjects(tx);
    return { configuration: compose(objects), version: await draftVersion(tx) };
  });
}

/** One writer of the draft at a time: versions then become visible in their order. */
export const lockDraft = (tx: Transaction): Promise<unknown> =>
  tx.execute(sql`select pg_advisory_xact_lock(${DRAFT_LOCK})`);

async function nextVersion(tx: Transaction): Promise<number> {
  const [row] = await rowsOf<{ version: string }>(tx, sql`select nextval('draft_version') as version`);
  return Number(row.version);
}

/** Writes objects whose conflicts are ruled out; returns their ids in order. */
async function write(
  tx: Transaction,
  objects: readonly Written[],
  version: number,
  author: string,
  now: number,
): Promise<number[]> {
  const ids: number[] = [];
  for (let at = 0; at < objects.length; at += CHUNK) {
    const chunk = objects.slice(at, at + CHUNK).map((object) => ({
      ...object,
      document: compacted(object.kind, object.document),
      sort: objectSort(object.kind, object.document),
    }));
    const fresh = chunk.filter(({ id }) => id === null);
    const made = fresh.length
      ? // As one value: parameters by the hundred thousand take longer than the rows.
        await rowsOf<{ id: number }>(
          tx,
          sql`
          insert into draft_object (kind, parent, document, sort, version, author, changed)
          select item->>'kind', item->>'parent', nullif(item->'document', 'null'::jsonb), item->>'sort', ${version}, ${author},
            ${new Date(now).toISOString()}::timestamptz
          from jsonb_array_elements(${JSON.stringify(fresh)}::jsonb) with ordinality as given (item, place)
          order by place
          returning id`,
        )
      : [];
    const known = chunk.filter((object) => object.id !== null);
    if (known.length > 0)
      await tx.execute(sql`
        update draft_object set document = given.document, sort = given.sort, parent = given.parent, version = ${version},
          author = ${author}, changed = ${new Date(now).toISOString()}::timestamptz
        from (select (item->>'id')::int as id, item->>'parent' as parent, item->>'sort' as sort,
            nullif(item->'document', 'null'::jsonb) as document
          from jsonb_array_elements(${JSON.stringify(known)}::jsonb) as item) as given
        where draft_object.id = given.id`);
    let next = 0;
    for (const { id } of chunk) ids.push(id ?? made[next++].id);
  }
  return ids;
}

/** Carries out all of the changes, or none when somebody else changed one of the objects meanwhile. */
export async function changeDraft(
  database: Database,
  given: readonly DraftChange[],
  author: string,
  now: number,
): Promise<DraftOutcome> {
  return database.transaction(async (tx) => {
    await lockDraft(tx);
    const ids = given.flatMap(({ id }) => id ?? []);
    const before = new Map<number, DraftObject>();
    for (let at = 0; at < ids.length; at += CHUNK)
      for (const row of await tx
        .select()
        .from(draftObject)
        .where(inArray(draftObject.id, ids.slice(at, at + CHUNK))))
        before.set(row.id, asObject(row));
    const conflicts = given.flatMap(({ id, expected, kind, parent }) => {
      if (id === null) return [];
      const row = before.get(id);
      if (row !== undefined && row.version === expected && row.kind === kind) return [];
      const { author: by, changed, document } = row ?? { author: '', changed: now, document: null };
      return [{ id, kind, parent, version: row?.version ?? null, author: by, changed, document }];
    });
    if (conflicts.length > 0) return { ok: false, conflicts };
    const changes = await putAway(tx, given, now);
    const version = await nextVersion(tx);
    const written = await write(tx, changes, version, author, now);
    const changed: ChangedObject[] = changes.map(({ kind, parent, document, id }, at) => ({
      id: written[at],
      kind,
      parent,
      document,
      version,
      author,
      changed: now,
      before: id === null ? null : (before.get(id)?.document ?? null),
      along: false,
    }));
    const updates = await changesAlong(changed, (kinds) => draftObjects(tx, { kinds }));
    await write(tx, updates, version, author, now);
    const along = updates.map((update) => ({
      ...update,
      id: update.id ?? 0,
      version,
      author,
      changed: now,
      along: true,
    }));
    await tx.execute(sql`select pg_notify(${CHANNELS.draft}, ${String(version)})`);
    return { ok: true, version, changed: [...changed, ...along] };
  });
}

const keyOf = ({ kind, parent, document }: ConfigObject): string => `${kind}\n${parent}\n${objectKey(kind, document)}`;

/** Makes the draft equal to a configuration that comes from outside; as `replaceDraft`. */
export async function takeIntoDraft(
  database: Database,
  configuration: Configuration,
  author: string,
  now: number,
  seenVersion: number | null = null,
): Promise<boolean> {
  return database.transaction(async (tx) => {
    const objects = await putAway(tx, decompose(configuration), now);
    return replaceDraft(tx, compose(objects), author, now, seenVersion);
  });
}

/**
 * Makes the draft equal to a configuration whose secrets are put away; what is equal already keeps its version. Somebody who saw the draft at a
 * version throws away what was in it then, and nothing newer: false, and nothing changed, when there is.
 */
export async function replaceDraft(
  tx: Transaction,
  configuration: Configuration,
  author: string,
  now: number,
  seenVersion: number | null = null,
): Promise<boolean> {
  await lockDraft(tx);
  if (seenVersion !== null && (await draftVersion(tx)) !== seenVersion) return false;
  const known = new Map<string, DraftObject>();
  const surplus: DraftObject[] = [];
  for (const object of await draftObjects(tx)) {
    const key = keyOf(object);
    if (known.has(key)) surplus.push(object);
    else known.set(key, object);
  }
  const writes: Written[] = [];
  for (const object of decompose(configuration)) {
    const key = keyOf(object);
    const old = known.get(key);
    known.delete(key);
    if (old === undefined) writes.push({ ...object, id: null });
    else if (!sameDocument(old.document, object.document)) writes.push({ ...object, id: old.id });
  }
  // What is reached in the same way by the same addresses is the same, however it is called now: what hangs on it stays.
  for (const written of writes) {
    const reach = written.id === null ? reachOf(written) : null;
    if (reach === null) continue;
    const [key, old] = [...known].find(([, one]) => reachOf(one) === reach) ?? [];
    if (key === undefined || old === undefined) continue;
    written.id = old.id;
    known.delete(key);
  }
  for (const { id, kind, parent } of [...known.values(), ...surplus]) writes.push({ id, kind, parent, document: null });
  if (writes.length === 0) return true;
  const version = await nextVersion(tx);
  await write(tx, writes, version, author, now);
  await tx.execute(sql`select pg_notify(${CHANNELS.draft}, ${String(version)})`);
  return true;
}

/** How a device or an outbound is reached, as text; null: of others there is no such thing. */
function reachOf({ kind, document }: Pick<Written, 'kind' | 'document'>): string | null {
  if (kind !== 'device' && kind !== 'outbound') return null;
  const { link, protocol, settings } = document as { link: string; protocol: string; settings: object };
  // A device without a link is like another; an outbound without one says in its settings where it leads.
  if (link === '' && kind === 'device') return null;
  return JSON.stringify([kind, link, protocol, Object.entries(settings).sort(([a], [b]) => (a < b ? -1 : 1))]);
}

/** The draft as it was seen at a version becomes what runs again. */
export async function discardDraft(
  database: Database,
  seenVersion: number,
  author: string,
  now: number,
): Promise<'discarded' | 'changed' | 'nothing runs'> {
  const [row] = await database
    .select()
    .from(revision)
    .orderBy(sql`id desc`)
    .limit(1);
  if (row === undefined) return 'nothing runs';
  const configuration = await readStored(row.document);
  const done = await database.transaction((tx) => replaceDraft(tx, configuration, author, now, seenVersion));
  return done ? 'discarded' : 'changed';
}

/** A database from before there were drafts: the draft begins as what runs. */
export async function ensureDraft(database: Database, now: number): Promise<void> {
  const [any] = await database.select({ id: draftObject.id }).from(draftObject).limit(1);
  if (any !== undefined) return;
  const [row] = await database
    .select()
    .from(revision)
    .orderBy(sql`id desc`)
    .limit(1);
  if (row === undefined) return;
  const configuration = await readStored(row.document);
  await database.transaction(async (tx) => {
    await replaceDraft(tx, configuration, row.author, now);
    await markApplied(tx);
  });
}
