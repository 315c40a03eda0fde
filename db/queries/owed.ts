import { ByteReader, ByteWriter } from '@halvix/core/bytes';
import { sql } from 'drizzle-orm';
import { doubles, integers, list, rowsOf, type Connection, type Database } from '../open.ts';

/*
 * The ledger of what outbounds owe.
 *
 * An event that an outbound has to hand over is committed together with the reading that it comes from, and stands here
 * until the other side has it. Events are numbered by their outbound, ascending; each belongs to a queue of it, in which
 * events are settled in their order, as a rule. Of each queue a position is known up to which everything is settled, and
 * the numbers of those beyond it that are. Rows go some seconds after the last of them was settled: what was told last
 * is known by them at the next start.
 *
 * A row holds the events of one queue that one batch brought, one behind the other:
 *
 *   number   8   as a float, which is exact up to 2^53
 *   length   4
 *   octets   …   in the form of the outbound's session
 */

export interface OwedEvent {
  /** Of the outbound (`outboundNumbers`). */
  outbound: number;
  queue: string;
  number: number;
  octets: Uint8Array;
}

/** How far a queue is settled: everything up to the position, and these beyond it. */
export interface Settled {
  outbound: number;
  queue: string;
  position: number;
  beyond: readonly number[];
}

/** Adds events, as part of a transaction. */
export async function storeOwed(client: Connection, events: readonly OwedEvent[]): Promise<void> {
  const rows = new Map<string, { outbound: number; queue: string; first: number; last: number; out: ByteWriter }>();
  for (const { outbound, queue, number, octets } of events) {
    const key = `${outbound} ${queue}`;
    let row = rows.get(key);
    if (row === undefined)
      rows.set(key, (row = { outbound, queue, first: number, last: number, out: new ByteWriter() }));
    row.first = Math.min(row.first, number);
    row.last = Math.max(row.last, number);
    row.out.float64(number).uint32(octets.length).bytes(octets);
  }
  const all = [...rows.values()];
  const pieces = all.map(({ out }) => out.finish());
  let end = 1;
  const starts = pieces.map(({ length }) => (end += length) - length);
  await client.query(
    `insert into owed (outbound, queue, first, last, octets)
     select outbound, queue, first, last, substring($1::bytea from start for length)
     from unnest($2::int[], string_to_array($3, E'\\n'), $4::float8[], $5::float8[], $6::int[], $7::int[])
       as given (outbound, queue, first, last, start, length)`,
    [
      Buffer.concat(pieces),
      integers(all.map(({ outbound }) => outbound)),
      all.map(({ queue }) => queue).join('\n'),
      doubles(all.map(({ first }) => first)),
      doubles(all.map(({ last }) => last)),
      integers(starts),
      integers(pieces.map(({ length }) => length)),
    ],
  );
}

function eventsOf({ outbound, queue, octets }: { outbound: number; queue: string; octets: Buffer }): OwedEvent[] {
  const reader = new ByteReader(new Uint8Array(octets));
  const events: OwedEvent[] = [];
  while (reader.remaining > 0) {
    const number = reader.float64();
    events.push({ outbound, queue, number, octets: reader.take(reader.uint32()) });
  }
  return events;
}

/** Writes how far queues are settled, only while that run holds the lease. */
export async function storeSettled(database: Database, settled: readonly Settled[], run: string): Promise<void> {
  if (settled.length === 0) return;
  const beyond = settled.map((one) =>
    one.beyond.reduce((out, number) => out.float64(number), new ByteWriter()).finish(),
  );
  let end = 1;
  const starts = beyond.map(({ length }) => (end += length) - length);
  await database.$client.query(
    `insert into owed_position (outbound, queue, position, beyond)
     select outbound, queue, position, substring($1::bytea from start for length)
     from unnest($2::int[], string_to_array($3, E'\\n'), $4::float8[], $5::int[], $6::int[])
       as given (outbound, queue, position, start, length)
     where exists (select from lease where lease.run = $7)
     on conflict (outbound, queue) do update set position = excluded.position, beyond = excluded.beyond`,
    [
      Buffer.concat(beyond),
      integers(settled.map(({ outbound }) => outbound)),
      settled.map(({ queue }) => queue).join('\n'),
      doubles(settled.map(({ position }) => position)),
      integers(starts),
      integers(beyond.map(({ length }) => length)),
      run,
    ],
  );
}

/** Removes rows of which everything was settled a while ago. */
export async function dropSettled(database: Database, settled: readonly Settled[], run: string): Promise<void> {
  for (const { outbound, queue, position } of settled)
    await database.execute(sql`delete from owed where outbound = ${outbound} and queue = ${queue} and last <= ${position}
      and exists (select from lease where lease.run = ${run})`);
}

/** How far the queues of an outbound are settled. */
export async function settledOf(database: Database, outbound: number): Promise<Map<string, Settled>> {
  const rows = await rowsOf<{ queue: string; position: string; beyond: Buffer }>(
    database,
    sql`select queue, position, beyond from owed_position where outbound = ${outbound}`,
  );
  return new Map(
    rows.map(({ queue, position, beyond }) => {
      const reader = new ByteReader(new Uint8Array(beyond));
      const numbers: number[] = [];
      while (reader.remaining > 0) numbers.push(reader.float64());
      return [queue, { outbound, queue, position: Number(position), beyond: numbers }];
    }),
  );
}

/** The highest number that is known of an outbound; 0: none is. */
export async function lastOwed(database: Database, outbound: number): Promise<number> {
  const [row] = await rowsOf<{ last: string | null }>(
    database,
    sql`select greatest((select max(last) from owed where outbound = ${outbound}),
      (select max(position) from owed_position where outbound = ${outbound})) as last`,
  );
  return Number(row?.last ?? 0);
}

/** The newest row of an outbound; 0: it has none. */
export async function lastOwedRow(database: Database, outbound: number): Promise<number> {
  const [row] = await rowsOf<{ id: string | null }>(
    database,
    sql`select max(id) as id from owed where outbound = ${outbound}`,
  );
  return Number(row?.id ?? 0);
}

/** What came behind a row, up to another, in the order in which it was committed, some rows at a time; settled ones are among it. */
export async function owedBehind(
  database: Database,
  outbound: number,
  behind: number,
  upTo: number,
  rows: number,
): Promise<{ id: number; events: OwedEvent[] }[]> {
  const found = await rowsOf<{ id: string; queue: string; octets: Buffer }>(
    database,
    sql`select id, queue, octets from owed where outbound = ${outbound} and id > ${behind} and id <= ${upTo} order by id limit ${rows}`,
  );
  return found.map(({ id, queue, octets }) => ({ id: Number(id), events: eventsOf({ outbound, queue, octets }) }));
}

/** The newest rows' events, in the order in which they were committed. */
export async function newestOwed(database: Database, outbound: number, rows: number): Promise<OwedEvent[]> {
  const found = await rowsOf<{ queue: string; octets: Buffer }>(
    database,
    sql`select queue, octets from owed where outbound = ${outbound} order by id desc limit ${rows}`,
  );
  return found.reverse().flatMap(({ queue, octets }) => eventsOf({ outbound, queue, octets }));
}

/** The numbers of outbounds, by their codes; those that have none get one. */
export async function outboundNumbers(database: Database, codes: readonly string[]): Promise<Map<string, number>> {
  await database.execute(
    sql`insert into outbound_identity (code) select unnest(${list(codes)}::text[]) on conflict (code) do nothing`,
  );
  const rows = await rowsOf<{ id: number; code: string }>(database, sql`select id, code from outbound_identity`);
  return new Map(rows.map(({ id, code }) => [code, id]));
}

/** Forgets everything of outbounds that are in no configuration any more. */
export async function forgetOutbounds(database: Database, kept: readonly number[]): Promise<void> {
  for (const table of ['owed', 'owed_position', 'outbound_keep', 'sent_packet'])
    await database.execute(sql`delete from ${sql.raw(table)} where not (outbound = any(${list(kept)}::int[]))`);
}
