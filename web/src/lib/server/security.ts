import { noteSecurity } from '@halvix/db';
import type { RequestEvent } from '@sveltejs/kit';
import { database } from './database.ts';

export type SecurityEvent =
  | 'sign-in'
  | 'failed sign-in'
  | 'sign-out'
  | 'refused'
  | 'account'
  | 'session'
  | 'password'
  | 'export'
  | 'control'
  | 'settings';

/** Notes what somebody did. A log that cannot be written stops nobody: the database is away then, for everything. */
export function noteWho(
  event: Pick<RequestEvent, 'locals' | 'getClientAddress'>,
  what: SecurityEvent,
  words: string,
  who = event.locals.person?.name ?? '',
): Promise<void> {
  const entry = {
    time: Date.now(),
    who: who.slice(0, 64),
    what,
    words: words.slice(0, 500),
    address: event.getClientAddress(),
  };
  return noteSecurity(database, entry).catch((error: unknown) => {
    process.stdout.write(
      `${JSON.stringify({ time: new Date().toISOString(), level: 'error', words: 'the security log was not written', reason: String((error as Error).cause ?? error) })}\n`,
    );
  });
}
