import { CONTROL_OPERATIONS } from '@halvix/core/dnp3';
import { commandOrderSchema } from '@halvix/core/path';
import { orderCommand } from '@halvix/db';
import { error, json } from '@sveltejs/kit';
import { bodyOf } from '$lib/server/body.ts';
import { commandView } from '$lib/server/commands.ts';
import { database } from '$lib/server/database.ts';
import { model } from '$lib/server/model.ts';
import type { RequestHandler } from './$types';

/** A control that no engine has taken by then is not carried out any more. */
const EXPIRES_AFTER_MS = 10_000;

/** Orders a control. The same id again answers with the command as it stands, and orders nothing. */
export const POST: RequestHandler = async ({ request, locals }) => {
  const order = await bodyOf(request, commandOrderSchema);
  const point = (await model()).points.get(order.pointId);
  if (point === undefined) error(404, `pointId: there is no point ${order.pointId}`);
  const { control, kind, index, name } = point.config;
  if (kind !== 'output' || control === null) error(400, `pointId: ${name} is no control`);
  if (!control.operations.includes(order.operation))
    error(400, `operation: ${name} takes ${control.operations.join(', ')}, not ${order.operation}`);
  const now = Date.now();
  const { row, isNew } = await orderCommand(database, {
    ...order,
    device: point.device.code,
    index,
    code: CONTROL_OPERATIONS[order.operation],
    requestedBy: locals.person?.name ?? '',
    outbound: null,
    requested: now,
    expires: now + EXPIRES_AFTER_MS,
  });
  if (!isNew && (row.requestedBy !== locals.person?.name || row.pointId !== order.pointId))
    error(409, 'id: another command has it');
  return json(commandView(row), { status: isNew ? 201 : 200 });
};
