import { hasAccounts } from '@halvix/db';
import { createHash, randomBytes, timingSafeEqual } from 'node:crypto';
import { database } from './database.ts';
import { webSettings } from './settings.ts';

/** Whoever makes the first account has to have it from the terminal that started this. */
const secret = webSettings.HALVIX_SETUP_SECRET || randomBytes(9).toString('base64url');

const digest = (text: string): Buffer => createHash('sha256').update(text).digest();
export const isSetupSecret = (given: string): boolean => timingSafeEqual(digest(given.trim()), digest(secret));

/** Prints the secret where there is no account yet, unless whoever started this knows it already. */
export async function tellSetupSecret(): Promise<void> {
  if (webSettings.HALVIX_SETUP_SECRET !== '') return;
  const needed = await hasAccounts(database).then(
    (has) => !has,
    () => true,
  );
  if (needed) process.stdout.write(`The first account is made with the one-time secret ${secret}\n`);
}
