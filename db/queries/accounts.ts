import { and, count, desc, eq, getTableColumns, gt, lt, ne, sql } from 'drizzle-orm';
import type { Database } from '../open.ts';
import { account, knownDevice, securityKeeping, securityLog, webSession } from '../schema/index.ts';

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

/**
 * Makes an account unless the name is taken, in whatever case. `mustChange`: somebody else knows the password, its owner
 * sets another one first.
 */
export async function addAccount(
  database: Database,
  name: string,
  role: Role,
  passwordHash: string,
  now: number,
  mustChange = false,
): Promise<boolean> {
  return database.transaction(async (tx) => {
    await tx.execute(sql`lock table ${account} in exclusive mode`);
    const all = await tx.select({ name: account.name }).from(account);
    if (all.some((one) => isSameName(one.name, name))) return false;
    await tx.insert(account).values({ name, role, passwordHash, created: now, mustChange });
    return true;
  });
}

const isSameName = (one: string, other: string): boolean => one.toLowerCase() === other.toLowerCase();

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

export type AccountChange = Partial<Pick<Account, 'name' | 'role' | 'disabled' | 'passwordHash' | 'mustChange'>>;

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
    if (change.name !== undefined && all.some((one) => one.id !== id && isSameName(one.name, change.name ?? '')))
      return { ok: false, problem: 'nameTaken' };
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
): Promise<{ id: number; name: string; role: Role; mustChange: boolean } | null> {
  const [row] = await database
    .select({
      ...{ id: account.id, name: account.name, role: account.role, mustChange: account.mustChange },
      ...{ seen: webSession.seen, from: webSession.created },
    })
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

/** Browsers of one account that are known. */
const MOST_DEVICES = 20;
const DEVICE_KEPT_MS = 400 * 86_400_000;

export async function isKnownDevice(database: Database, accountId: number, tokenHash: string): Promise<boolean> {
  const [row] = await database
    .select({ seen: knownDevice.seen })
    .from(knownDevice)
    .where(and(eq(knownDevice.accountId, accountId), eq(knownDevice.tokenHash, tokenHash)));
  return row !== undefined && Date.now() - row.seen < DEVICE_KEPT_MS;
}

/** Knows a browser as one of the account's; beyond `MOST_DEVICES` the one that was used least lately is forgotten. */
export async function noteKnownDevice(
  database: Database,
  accountId: number,
  tokenHash: string,
  now: number,
): Promise<void> {
  await database
    .insert(knownDevice)
    .values({ tokenHash, accountId, seen: now })
    .onConflictDoUpdate({ target: knownDevice.tokenHash, set: { accountId, seen: now } });
  await database.execute(sql`
    delete from ${knownDevice} where account_id = ${accountId} and token_hash not in (
      select token_hash from ${knownDevice} where account_id = ${accountId} order by seen desc limit ${MOST_DEVICES})`);
}

/** How long lines of the security log are kept, and how many. */
export async function securityKept(database: Database): Promise<{ days: number; lines: number }> {
  const [row] = await database
    .select({ days: securityKeeping.days, lines: securityKeeping.lines })
    .from(securityKeeping);
  return row;
}

/** Only for the owner of the tables: the database refuses it to others. */
export async function keepSecurity(database: Database, kept: { days?: number; lines?: number }): Promise<void> {
  await database.update(securityKeeping).set(kept);
}

/** Ends the lines of the security log that are over; only for the owner of the tables. Returns how many. */
export async function endOldSecurity(database: Database): Promise<number> {
  const { rows } = await database.execute(sql`select end_old_security_lines() as ended`);
  return Number(rows[0].ended);
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
