import { and, desc, eq, lt, sql } from 'drizzle-orm';
import type { Database } from '../open.ts';
import { sentPacket } from '../schema/index.ts';

/** A packet at a destination to which we push; see the table. */
export type SentPacket = typeof sentPacket.$inferSelect;

/** Of each outbound so many are kept, and of these so many octets. */
const MOST_PACKETS = 1000;
const MOST_OCTETS = 16 << 20;

/** Writes what is known of packets, only while that run holds the lease. `tries`: since the last time. */
export async function writeSent(database: Database, packets: readonly SentPacket[], run: string): Promise<void> {
  if (packets.length === 0) return;
  const rows = JSON.stringify(packets);
  await database.execute(sql`
    insert into sent_packet (outbound, packet, first, last, tries, records, octets, state, words, messages)
    select outbound, packet, to_timestamp(first / 1000), to_timestamp(last / 1000), tries, records, octets, state, words, messages
    from jsonb_to_recordset(${rows}::jsonb) as given (outbound int, packet bigint, first float8, last float8, tries int,
      records int, octets int, state text, words text, messages jsonb)
    where exists (select from lease where lease.run = ${run})
      and (given.tries > 0 or exists (select from sent_packet as known
        where known.outbound = given.outbound and known.packet = given.packet))
    on conflict (outbound, packet) do update set last = excluded.last, tries = sent_packet.tries + excluded.tries,
      state = excluded.state, words = excluded.words`);
}

/** Beyond the bound the oldest go. */
export async function dropOldSent(database: Database, outbound: number): Promise<void> {
  await database.execute(sql`
    delete from sent_packet where outbound = ${outbound} and packet <= (
      select max(packet) from (
        select packet, row_number() over newest as place, sum(octets) over newest as octets
        from sent_packet where outbound = ${outbound} window newest as (order by packet desc)
      ) as counted where place > ${MOST_PACKETS} or (octets > ${MOST_OCTETS} and place > 1))`);
}

/** Packets of an outbound, the newest first; those before a number, where one is given. Without what is in them. */
export async function sentPackets(
  database: Database,
  code: string,
  { before, limit }: { before: number | null; limit: number },
): Promise<Omit<SentPacket, 'messages' | 'outbound'>[]> {
  const { packet, first, last, tries, records, octets, state, words } = sentPacket;
  return database
    .select({ packet, first, last, tries, records, octets, state, words })
    .from(sentPacket)
    .where(and(ofCode(code), before === null ? undefined : lt(packet, before)))
    .orderBy(desc(packet))
    .limit(limit);
}

/** What is in one; null: it is not kept any more. */
export async function sentMessages(
  database: Database,
  code: string,
  packet: number,
): Promise<{ to: string; octets: Uint8Array }[] | null> {
  const [row] = await database
    .select({ messages: sentPacket.messages })
    .from(sentPacket)
    .where(and(ofCode(code), eq(sentPacket.packet, packet)));
  return (
    row?.messages.map(({ to, octets }) => ({ to, octets: Uint8Array.from(Buffer.from(octets, 'base64')) })) ?? null
  );
}

const ofCode = (code: string): ReturnType<typeof sql> =>
  sql`${sentPacket.outbound} = (select id from outbound_identity where code = ${code})`;
