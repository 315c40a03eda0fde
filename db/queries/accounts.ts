import { and, count, desc, eq, getTableColumns, gt, lt, ne, sql } from 'drizzle-orm';
import type { Database } from '../open.ts';
import { account, securityLog, webSession } from '../schema/index.ts';

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

/** All accounts by name, with how many sessions each has open. */
export async function accounts(
  database: Database,
  now: number,
): Promise<(Pick<Account, 'id' | 'name' | 'role' | 'created' | 'disabled'> & { sessions: number })[]> {
  const { id, name, role, created, disabled } = account;
  return database
    .select({ id, name, role, created, disabled, sessions: count(webSession.tokenHash) })
    .from(account)
    .leftJoin(webSession, and(eq(webSession.accountId, account.id), gt(webSession.expires, now)))
    .groupBy(account.id)
    .orderBy(account.name);
}

export type AccountChange = Partial<Pick<Account, 'name' | 'role' | 'disabled' | 'passwordHash'>>;

/**
 * Changes an account; null: there is none. Somebody has to be left who may do everything: the last engineer is neither
 * disabled nor given another role. A name may be taken.
 */
export async function changeAccount(
  database: Database,
  id: number,
  change: AccountChange,
): Promise<{ ok: true; before: Account } | { ok: false; problem: 'missing' | 'lastEngineer' | 'nameTaken' }> {
  return database.transaction(async (tx) => {
    await tx.execute(sql`lock table ${account} in exclusive mode`);
    const all = await tx.select().from(account);
    const before = all.find((one) => one.id === id);
    if (before === undefined) return { ok: false, problem: 'missing' };
    if (all.some((one) => one.id !== id && one.name === change.name)) return { ok: false, problem: 'nameTaken' };
    const after = { ...before, ...change };
    const isEngineer = (one: Account): boolean => one.role === 'engineer' && !one.disabled;
    if (isEngineer(before) && !isEngineer(after) && all.filter(isEngineer).length === 1)
      return { ok: false, problem: 'lastEngineer' };
    if (Object.keys(change).length > 0) await tx.update(account).set(change).where(eq(account.id, id));
    return { ok: true, before };
  });
}

export type WebSession = Omit<typeof webSession.$inferSelect, 'tokenHash'>;

export async function openWebSession(
  database: Database,
  session: Pick<typeof webSession.$inferSelect, 'accountId' | 'tokenHash' | 'label' | 'address' | 'agent'>,
  now: number,
  expires: number,
): Promise<void> {
  await database.delete(webSession).where(lt(webSession.expires, now));
  await database.insert(webSession).values({ ...session, created: now, seen: now, expires });
}

/** How often it is noted that a session is used. */
const SEEN_EVERY_MS = 60_000;

/**
 * Whose session it is; null when it is over: expired, not used for `idleMs`, or its account disabled. `use`: it counts
 * as used now.
 */
export async function accountOfSession(
  database: Database,
  tokenHash: string,
  now: number,
  { idleMs, use }: { idleMs: number; use: boolean },
): Promise<{ id: number; name: string; role: Role } | null> {
  const [row] = await database
    .select({ id: account.id, name: account.name, role: account.role, seen: webSession.seen, from: webSession.created })
    .from(webSession)
    .innerJoin(account, eq(account.id, webSession.accountId))
    .where(and(eq(webSession.tokenHash, tokenHash), gt(webSession.expires, now), eq(account.disabled, false)));
  if (row === undefined) return null;
  const { seen, from, ...person } = row;
  const last = seen ?? from;
  if (now - last > idleMs) return null;
  if (use && now - last > SEEN_EVERY_MS)
    await database.update(webSession).set({ seen: now }).where(eq(webSession.tokenHash, tokenHash));
  return person;
}

export async function closeWebSession(database: Database, tokenHash: string): Promise<void> {
  await database.delete(webSession).where(eq(webSession.tokenHash, tokenHash));
}

/** The open sessions of an account, the newest first. */
export async function sessionsOf(database: Database, accountId: number, now: number): Promise<WebSession[]> {
  const { tokenHash: _secret, ...columns } = getTableColumns(webSession);
  return database
    .select(columns)
    .from(webSession)
    .where(and(eq(webSession.accountId, accountId), gt(webSession.expires, now)))
    .orderBy(desc(webSession.created));
}

/** By which people tell that session from others. */
export async function labelOfSession(database: Database, tokenHash: string): Promise<string | null> {
  const [row] = await database
    .select({ label: webSession.label })
    .from(webSession)
    .where(eq(webSession.tokenHash, tokenHash));
  return row?.label ?? null;
}

/** Ends sessions of an account: one by its label, or all but one. Returns the token hashes of those that ended. */
export async function endSessions(
  database: Database,
  accountId: number,
  which: { label: string } | { except: string | null },
): Promise<string[]> {
  const rows = await database
    .delete(webSession)
    .where(
      and(
        eq(webSession.accountId, accountId),
        'label' in which
          ? eq(webSession.label, which.label)
          : which.except === null
            ? undefined
            : ne(webSession.tokenHash, which.except),
      ),
    )
    .returning({ tokenHash: webSession.tokenHash });
  return rows.map(({ tokenHash }) => tokenHash);
}

export type SecurityEntry = typeof securityLog.$inferSelect;

/** Adds a line to the security log. */
export async function noteSecurity(database: Database, entry: Omit<SecurityEntry, 'id'>): Promise<void> {
  await database.insert(securityLog).values(entry);
}

/** The newest lines, the newest first; those before a line, where one is given. */
export async function securityEntries(
  database: Database,
  limit: number,
  before: number | null = null,
): Promise<SecurityEntry[]> {
  return database
    .select()
    .from(securityLog)
    .where(before === null ? undefined : lt(securityLog.id, before))
    .orderBy(desc(securityLog.id))
    .limit(limit);
}
