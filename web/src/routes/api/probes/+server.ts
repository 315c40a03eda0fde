import { probeRequestSchema } from '@halvix/core/path';
import { playObjection } from '@halvix/core/playing';
import { orderProbe } from '@halvix/db';
import { deviceOf } from '@halvix/core/protocols';
import { error, json } from '@sveltejs/kit';
import { z } from 'zod';
import { bodyOf } from '$lib/server/body.ts';
import { database } from '$lib/server/database.ts';
import { ask } from '$lib/server/live.ts';
import { deviceByCode, model } from '$lib/server/model.ts';
import { keeping } from '$lib/server/secrets.ts';
import type { RequestHandler } from './$types';

const bodySchema = z.object({ id: z.uuid(), request: probeRequestSchema });

/** Asks the engine to try a device or to survey it, or to let a point on test play; how it goes comes with the live stream. */
export const POST: RequestHandler = async ({ request, locals }) => {
  const { id, request: wanted } = await bodyOf(request, bodySchema);
  if (wanted.type === 'ask') {
    const device = deviceByCode(await model(), wanted.device);
    if (device === undefined) error(404, `device: there is no device ${wanted.device}`);
    const read = deviceOf(device.protocol).orders.schema.safeParse(wanted.order);
    if (!read.success) {
      const [{ message, path }] = read.error.issues;
      error(400, path.length > 1 || path[0] !== 'what' ? message : `order: ${device.code} cannot be asked that`);
    }
  }
  if (wanted.type === 'play') {
    const device = deviceByCode(await model(), wanted.device);
    if (device === undefined) error(404, `device: there is no device ${wanted.device}`);
    const objection = playObjection(device, wanted.point, wanted.play);
    if (objection !== null) error(400, objection);
  }
  await keeping(() => orderProbe(database, id, wanted, locals.person?.name ?? '', Date.now()));
  return json({ id }, { status: 201 });
};

const cancelSchema = z.object({ id: z.uuid() });

export const DELETE: RequestHandler = async ({ request }) => {
  const { id } = await bodyOf(request, cancelSchema);
  await ask({ type: 'cancelProbe', id });
  return json({ id });
};
