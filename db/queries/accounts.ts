import { and, count, eq, gt, lt, sql } from 'drizzle-orm';
import type { Database } from '../open.ts';
import { account, webSession } from '../schema/index.ts';

export type Account = typeof account.$inferSelect;
export type Role = Account['role'];

export async function accountByName(database: Database, name: string): Promise<Account | null> {
  const [row] = await database.select().from(account).where(eq(account.name, name));
  return row ?? null;
}

export async function hasAccounts(database: Database): Promise<boolean> {
  const [row] = await database.select({ accounts: count() }).from(account);
  return row.accounts > 0;
}

/** Makes an account unless the name is taken. */
export async function addAccount(
  database: Database,
  name: string,
  role: Role,
  passwordHash: string,
  now: number,
): Promise<boolean> {
  const rows = await database
    .insert(account)
    .values({ name, role, passwordHash, created: now })
    .onConflictDoNothing()
    .returning({ id: account.id });
  return rows.length > 0;
}

/** Makes the first account; does nothing and returns null once there is one. */
export async function addFirstAccount(
  database: Database,
  name: string,
  passwordHash: string,
  now: number,
): Promise<Account | null> {
  return database.transaction(async (tx) => {
    await tx.execute(sql`lock table ${account} in exclusive mode`);
    const [row] = await tx.select({ accounts: count() }).from(account);
    if (row.accounts > 0) return null;
    const [made] = await tx.insert(account).values({ name, role: 'engineer', passwordHash, created: now }).returning();
    return made;
  });
}

export async function openWebSession(
  database: Database,
  accountId: number,
  tokenHash: string,
  now: number,
  expires: number,
): Promise<void> {
  await database.delete(webSession).where(lt(webSession.expires, now));
  await database.insert(webSession).values({ accountId, tokenHash, created: now, expires });
}

export async function accountOfSession(
  database: Database,
  tokenHash: string,
  now: number,
): Promise<{ id: number; name: string; role: Role } | null> {
  const [row] = await database
    .select({ id: account.id, name: account.name, role: account.role })
    .from(webSession)
    .innerJoin(account, eq(account.id, webSession.accountId))
    .where(and(eq(webSession.tokenHash, tokenHash), gt(webSession.expires, now)));
  return row ?? null;
}

export async function closeWebSession(database: Database, tokenHash: string): Promise<void> {
  await database.delete(webSession).where(eq(webSession.tokenHash, tokenHash));
}
