import { profileSchema, type Profile } from '@halvix/core/profile';
import { asc, eq } from 'drizzle-orm';
import type { Database } from '../open.ts';
import { profile } from '../schema/index.ts';

/** The profiles that people saved, by code. */
export async function profiles(database: Database): Promise<Profile[]> {
  const rows = await database.select().from(profile).orderBy(asc(profile.code));
  return rows.flatMap(({ document }) => {
    const parsed = profileSchema.safeParse(document);
    return parsed.success ? [parsed.data] : [];
  });
}

export async function saveProfile(database: Database, document: Profile, author: string, now: number): Promise<void> {
  const values = { code: document.code, document, author, changed: now };
  await database
    .insert(profile)
    .values(values)
    .onConflictDoUpdate({ target: profile.code, set: { document, author, changed: now } });
}

export async function deleteProfile(database: Database, code: string): Promise<void> {
  await database.delete(profile).where(eq(profile.code, code));
}
