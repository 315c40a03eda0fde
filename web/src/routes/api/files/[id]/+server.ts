import { fileOfTransfer } from '@halvix/db';
import { error } from '@sveltejs/kit';
import { z } from 'zod';
import { database } from '$lib/server/database.ts';
import { noteWho } from '$lib/server/security.ts';
import type { RequestHandler } from './$types';

/** A file that was read from a device, as it was there. */
export const GET: RequestHandler = async (event) => {
  const id = z.uuid().safeParse(event.params.id);
  const file = id.success ? await fileOfTransfer(database, id.data) : null;
  if (file === null) error(404, 'There is no such file');
  await noteWho(event, 'export', `the file ${file.name} of ${file.device}`);
  // Whatever the device calls it, it is saved under a harmless name and opened by nobody.
  const name = `${file.device}-${file.name}`.replace(/[^A-Za-z0-9._-]+/g, '_');
  return new Response(Uint8Array.from(file.content), {
    headers: {
      'content-type': 'application/octet-stream',
      'content-disposition': `attachment; filename="${name}"`,
      'x-content-type-options': 'nosniff',
    },
  });
};
