import { asc, eq, sql } from 'drizzle-orm';
import type { Database } from '../open.ts';
import { outboundKeep } from '../schema/index.ts';

/*
 * What the sessions of outbounds have to remember: pieces that are added one after the other, and from time to time
 * replaced by one that says it all.
 */

/** One more piece of an outbound; `replaces`: it says all that the others said. */
export interface KeptPiece {
  /** Its number (`outboundNumbers`). */
  outbound: number;
  octets: Uint8Array;
  replaces: boolean;
}

/** Adds pieces, in one transaction, only while that run holds the lease. */
export async function addKept(database: Database, pieces: readonly KeptPiece[], run: string): Promise<void> {
  if (pieces.length === 0) return;
  await database.transaction(async (tx) => {
    for (const { outbound, octets, replaces } of pieces) {
      const held = sql`exists (select from lease where lease.run = ${run})`;
      if (replaces) await tx.execute(sql`delete from outbound_keep where outbound = ${outbound} and ${held}`);
      await tx.execute(
        sql`insert into outbound_keep (outbound, octets) select ${outbound}::int, ${Buffer.from(octets)}::bytea where ${held}`,
      );
    }
  });
}

/** All pieces of an outbound, in their order. */
export async function keptPieces(database: Database, outbound: number): Promise<Uint8Array[]> {
  const rows = await database
    .select({ octets: outboundKeep.octets })
    .from(outboundKeep)
    .where(eq(outboundKeep.outbound, outbound))
    .orderBy(asc(outboundKeep.id));
  return rows.map(({ octets }) => new Uint8Array(octets));
}
