import { commandById } from '@halvix/db';
import { error, json } from '@sveltejs/kit';
import { commandView } from '$lib/server/commands.ts';
import { database } from '$lib/server/database.ts';
import type { RequestHandler } from './$types';

export const GET: RequestHandler = async ({ params }) => {
  if (!/^[0-9a-f-]{36}$/.test(params.id)) error(400, 'id: not a command id');
  const row = await commandById(database, params.id);
  if (row === null) error(404, 'There is no such command');
  return json(commandView(row));
};
