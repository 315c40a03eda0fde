import { accountByName, closeWebSession, openWebSession, type Account } from '@halvix/db';
import { hash, verify } from '@node-rs/argon2';
import type { Cookies } from '@sveltejs/kit';
import { createHash, randomBytes } from 'node:crypto';
import { z } from 'zod';
import { database } from './database.ts';
import { webSettings } from './settings.ts';
import { Throttle } from './throttle.ts';

export const SESSION_COOKIE = 'halvix_session';
const SESSION_MS = webSettings.HALVIX_SESSION_HOURS * 3_600_000;
const throttle = new Throttle();
/** Each check takes some 19 MiB and tens of milliseconds; so many may wait. */
const MAX_CHECKS = 8;
let checks = 0;
let nobodysHash: Promise<string> | null = null;

export const credentialsSchema = z.object({
  name: z.string().trim().min(1, 'Name: at least 1 character').max(64, 'Name: at most 64 characters'),
  password: z.string().min(1, 'Password: must be filled in').max(256, 'Password: at most 256 characters'),
});

export const newPasswordSchema = credentialsSchema.extend({
  password: z.string().min(10, 'Password: at least 10 characters').max(256, 'Password: at most 256 characters'),
});

/** Argon2id with the library's defaults (19 MiB, 2 passes: OWASP's recommendation). */
export const hashPassword = (password: string): Promise<string> => hash(password);

const tokenHash = (token: string): string => createHash('sha256').update(token).digest('hex');

/** The account, or why there is none, in words for the person. */
export async function checkCredentials(
  name: string,
  password: string,
  address: string,
): Promise<{ ok: true; account: Account } | { ok: false; words: string }> {
  const now = Date.now();
  const keys = [`name ${name}`, `address ${address}`];
  const pause = throttle.pauseFor(keys, now);
  if (pause > 0)
    return { ok: false, words: `Too many failed tries. The next one is possible in ${Math.ceil(pause / 1000)} s.` };
  if (checks >= MAX_CHECKS)
    return { ok: false, words: 'Too many people sign in at this moment. Try again in a second.' };
  checks++;
  // Counted before the answer is known, so that tries side by side count too.
  throttle.fail(keys, now);
  try {
    const account = await accountByName(database, name);
    // An unknown name costs as much time as a wrong password.
    nobodysHash ??= hash(randomBytes(16).toString('hex'));
    const matches = await verify(account?.passwordHash ?? (await nobodysHash), password);
    if (account === null || !matches) return { ok: false, words: 'Name or password is wrong.' };
    throttle.succeed(keys);
    return { ok: true, account };
  } finally {
    checks--;
  }
}

export async function openSession(cookies: Cookies, account: Account): Promise<void> {
  const token = randomBytes(32).toString('base64url');
  const now = Date.now();
  await openWebSession(database, account.id, tokenHash(token), now, now + SESSION_MS);
  cookies.set(SESSION_COOKIE, token, {
    path: '/',
    httpOnly: true,
    sameSite: 'strict',
    secure: webSettings.HALVIX_WEB_ORIGIN.startsWith('https:'),
    maxAge: Math.floor(SESSION_MS / 1000),
  });
}

export async function endSession(cookies: Cookies): Promise<void> {
  const token = cookies.get(SESSION_COOKIE);
  if (token !== undefined) await closeWebSession(database, tokenHash(token));
  cookies.delete(SESSION_COOKIE, { path: '/' });
}

export const sessionHash = (cookies: Cookies): string | null => {
  const token = cookies.get(SESSION_COOKIE);
  return token === undefined ? null : tokenHash(token);
};
