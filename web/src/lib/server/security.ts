import { building } from '$app/environment';
import { doorsOpenedBy, noteSecurity } from '@halvix/db';
import type { RequestEvent } from '@sveltejs/kit';
import { database } from './database.ts';
import { SecurityFold } from './securityfold.ts';

export type SecurityEvent =
  | 'sign-in'
  | 'failed sign-in'
  | 'sign-out'
  | 'refused'
  | 'account'
  | 'session'
  | 'password'
  | 'export'
  | 'configuration'
  | 'access'
  | 'order'
  | 'file'
  | 'control'
  | 'settings';

/** Notes what somebody did. A log that cannot be written stops nobody: the database is away then, for everything. */
export function noteWho(
  event: Pick<RequestEvent, 'locals' | 'getClientAddress'>,
  what: SecurityEvent,
  words: string,
  who = event.locals.person?.name ?? '',
): Promise<void> {
  const now = Date.now();
  const entry = {
    time: now,
    who: who.slice(0, 64),
    what,
    words: words.slice(0, 500),
    address: event.getClientAddress(),
  };
  // What anybody can cause is not written as often as anybody likes.
  if (ANYBODYS.has(what) && !fold.takes(entry, now)) return Promise.resolve();
  return write(entry);
}

/** Notes that somebody applied a revision, and who may do what since. */
export async function noteApplied(event: Parameters<typeof noteWho>[0], id: number, words: string): Promise<void> {
  await noteWho(event, 'configuration', words);
  const doors = await doorsOpenedBy(database, id).catch(() => ['what could not be read: look at its differences']);
  for (const door of doors) await noteWho(event, 'access', `revision ${id} opened ${door}`);
}

const ANYBODYS: ReadonlySet<SecurityEvent> = new Set(['failed sign-in', 'refused']);
const fold = new SecurityFold<Entry>();
const LOOK_MS = 10_000;
if (!building)
  setInterval(() => {
    const now = Date.now();
    for (const { entry, count } of fold.over(now))
      void write({
        ...entry,
        time: now,
        who: '',
        words: `and ${count} more in a minute, the last: ${entry.words}`.slice(0, 500),
      });
  }, LOOK_MS).unref();

type Entry = Parameters<typeof noteSecurity>[1];

function write(entry: Entry): Promise<void> {
  return noteSecurity(database, entry).catch((error: unknown) => {
    process.stdout.write(
      `${JSON.stringify({ time: new Date().toISOString(), level: 'error', words: 'the security log was not written', reason: String((error as Error).cause ?? error) })}\n`,
    );
  });
}
