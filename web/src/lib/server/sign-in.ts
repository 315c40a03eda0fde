import {
  accountByName,
  closeWebSession,
  isKnownDevice,
  noteKnownDevice,
  openWebSession,
  type Account,
} from '@halvix/db';
import { hash, verify } from '@node-rs/argon2';
import type { Cookies, RequestEvent } from '@sveltejs/kit';
import { createHash, randomBytes } from 'node:crypto';
import { z } from 'zod';
import { database } from './database.ts';
import { nameProblem, normalName, passwordProblem } from '@halvix/core/accounts';
import { webSettings } from './settings.ts';
import { Doors } from './throttle.ts';

const isHttps = webSettings.HALVIX_WEB_ORIGIN.startsWith('https:');
/** A name that begins so can only be set by this very host, over HTTPS, for all its paths. */
export const SESSION_COOKIE = isHttps ? '__Host-halvix_session' : 'halvix_session';
/** By which a browser is known in which an account signed in before; it lets nobody in. */
const DEVICE_COOKIE = isHttps ? '__Host-halvix_device' : 'halvix_device';
const DEVICE_KEPT_S = 400 * 86_400;
export const IDLE_MS = webSettings.HALVIX_SESSION_IDLE_MINUTES * 60_000;
const SESSION_MS = webSettings.HALVIX_SESSION_HOURS * 3_600_000;
const doors = new Doors();
/** Each check takes some 19 MiB and tens of milliseconds; so many may wait. */
const MAX_CHECKS = 8;
/** Those of known browsers are not among them: whoever guesses cannot take all of them. */
const checks = { known: 0, others: 0 };
let nobodysHash: Promise<string> | null = null;

export const credentialsSchema = z.object({
  name: z
    .string()
    .max(256, 'Name: at most 64 characters')
    .transform(normalName)
    .pipe(z.string().min(1, 'Name: at least 1 character').max(64, 'Name: at most 64 characters')),
  password: z.string().min(1, 'Password: must be filled in').max(256, 'Password: at most 256 characters'),
});

/** For a new password: long, and none that everybody tries first. */
export const newPasswordSchema = credentialsSchema.superRefine(({ name, password }, context) => {
  const wrong = nameProblem(name);
  if (wrong !== null) context.addIssue({ code: 'custom', path: ['name'], message: `Name: ${wrong}` });
  const problem = passwordProblem(password, name);
  if (problem !== null) context.addIssue({ code: 'custom', path: ['password'], message: `Password: ${problem}` });
});

/** Argon2id with the library's defaults (19 MiB, 2 passes: OWASP's recommendation). */
export const hashPassword = (password: string): Promise<string> => hash(password);

const tokenHash = (token: string): string => createHash('sha256').update(token).digest('hex');

/** The account, or why there is none, in words for the person. */
export async function checkCredentials(
  { cookies, getClientAddress }: Pick<RequestEvent, 'cookies' | 'getClientAddress'>,
  name: string,
  password: string,
): Promise<{ ok: true; account: Account } | { ok: false; words: string }> {
  const now = Date.now();
  const account = await accountByName(database, name);
  const token = cookies.get(DEVICE_COOKIE);
  const hashed = token === undefined ? null : tokenHash(token);
  // Asked of an unknown name too: how long it takes says nothing of who has an account.
  const isKnown = hashed !== null && (await isKnownDevice(database, account?.id ?? 0, hashed));
  const trying = { name, address: getClientAddress(), device: isKnown ? hashed : null };
  const pause = doors.pauseFor(trying, now);
  if (pause > 0)
    return { ok: false, words: `Too many failed tries. The next one is possible in ${Math.ceil(pause / 1000)} s.` };
  const lot = isKnown ? 'known' : 'others';
  if (checks[lot] >= MAX_CHECKS)
    return { ok: false, words: 'Too many people sign in at this moment. Try again in a second.' };
  checks[lot]++;
  doors.tries(trying, now);
  try {
    // An unknown name costs as much time as a wrong password.
    nobodysHash ??= hash(randomBytes(16).toString('hex'));
    const matches = await verify(account?.passwordHash ?? (await nobodysHash), password);
    if (account === null || !matches || account.disabled) return { ok: false, words: 'Name or password is wrong.' };
    doors.succeeds(trying, Date.now());
    return { ok: true, account };
  } finally {
    checks[lot]--;
  }
}

/** Knows this browser from now on as one of the account's. */
async function know(cookies: Cookies, account: Account): Promise<void> {
  const token = cookies.get(DEVICE_COOKIE) ?? randomBytes(32).toString('base64url');
  // One token is one account's: of several in one browser it knows the last.
  await noteKnownDevice(database, account.id, tokenHash(token), Date.now());
  const options = { path: '/', httpOnly: true, sameSite: 'strict', secure: isHttps, maxAge: DEVICE_KEPT_S } as const;
  cookies.set(DEVICE_COOKIE, token, options);
}

export async function openSession(
  event: Pick<RequestEvent, 'cookies' | 'request' | 'getClientAddress'>,
  account: Account,
): Promise<void> {
  const token = randomBytes(32).toString('base64url');
  const now = Date.now();
  const session = {
    accountId: account.id,
    tokenHash: tokenHash(token),
    label: randomBytes(6).toString('hex'),
    address: event.getClientAddress(),
    agent: (event.request.headers.get('user-agent') ?? '').slice(0, 200),
  };
  await openWebSession(database, session, now, now + SESSION_MS);
  event.cookies.set(SESSION_COOKIE, token, {
    path: '/',
    httpOnly: true,
    sameSite: 'strict',
    secure: isHttps,
    maxAge: Math.floor(SESSION_MS / 1000),
  });
  await know(event.cookies, account);
}

/** Ends the session; returns its token's hash. */
export async function endSession(cookies: Cookies): Promise<string | null> {
  const ended = sessionHash(cookies);
  if (ended !== null) await closeWebSession(database, ended);
  cookies.delete(SESSION_COOKIE, { path: '/', secure: isHttps });
  return ended;
}

export const sessionHash = (cookies: Cookies): string | null => {
  const token = cookies.get(SESSION_COOKIE);
  return token === undefined ? null : tokenHash(token);
};
