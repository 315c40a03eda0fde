import { openDatabase } from '@halvix/db';
import { webSettings } from './settings.ts';

export const database = openDatabase(webSettings.HALVIX_DATABASE_URL, { connections: 8, name: 'web' });
