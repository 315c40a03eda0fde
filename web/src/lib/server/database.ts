import { closeDatabase, openDatabase } from '@halvix/db';
import { webSettings } from './settings.ts';

export const database = openDatabase(webSettings.HALVIX_DATABASE_URL, { connections: 8, name: 'web' });

// The server has closed its doors: what is left would keep the process alive.
process.on('sveltekit:shutdown', () => void closeDatabase(database, 1000));
