import { fileOrderSchema } from '@halvix/core/path';
import { deviceOf } from '@halvix/core/protocols';
import { orderTransfer } from '@halvix/db';
import { error, json } from '@sveltejs/kit';
import { mayOrder } from '$lib/server/access.ts';
import { bodyOf } from '$lib/server/body.ts';
import { database } from '$lib/server/database.ts';
import { ask } from '$lib/server/live.ts';
import { deviceByCode, model } from '$lib/server/model.ts';
import { noteWho } from '$lib/server/security.ts';
import type { RequestHandler } from './$types';

/** Asks a device for its directory or a file, or to delete one. The same id again asks nothing. */
export const POST: RequestHandler = async (event) => {
  const { request, locals } = event;
  const { id, device: code, what, name, as } = await bodyOf(request, fileOrderSchema);
  const { person } = locals;
  if (person === null) error(401, 'Sign in first');
  if (what !== 'directory' && name === '') error(400, 'name: a file needs a name');
  const device = deviceByCode(await model(), code);
  if (device === undefined) error(404, `device: there is no device ${code}`);
  if (!deviceOf(device.protocol).orders.files) error(400, `device: ${code} has no files to give`);
  if (!mayOrder(person.role, device.protocol, { what, name, as }))
    error(403, 'Deleting files in a device is for engineers');
  const order = { id, device: device.code, what, name, requestedBy: person.name, requested: Date.now() };
  if (await orderTransfer(database, order)) {
    await noteWho(
      event,
      'file',
      `${device.code}: ${deviceOf(device.protocol).orders.words({ what, name, as })} ${name}`,
    );
    await ask({ type: 'file', id, as });
  }
  return json({ id }, { status: 202 });
};
