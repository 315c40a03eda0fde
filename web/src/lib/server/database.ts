import { closeDatabase, openDatabase } from '@halvix/db';
import { webSettings } from './settings.ts';

export const database = openDatabase(webSettings.HALVIX_DATABASE_URL, { connections: 8, name: 'web' });
/** For looks at history: whatever they take, nothing else waits for them. */
export const historyDatabase = openDatabase(webSettings.HALVIX_DATABASE_URL, {
  connections: 2,
  name: 'web history',
  deadlineMs: 8000,
});

// The server has closed its doors: what is left would keep the process alive.
process.on(
  'sveltekit:shutdown',
  () => void Promise.all([database, historyDatabase].map((one) => closeDatabase(one, 1000))),
);
