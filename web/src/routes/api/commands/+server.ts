import { countsToSend, textToSend, type PointConfig } from '@halvix/core/config';
import { commandOrderSchema, type CommandOrder } from '@halvix/core/path';
import { addressOf } from '@halvix/core/protocols';
import { orderCommand, type NewCommand } from '@halvix/db';
import { error, json } from '@sveltejs/kit';
import { bodyOf } from '$lib/server/body.ts';
import { commandView } from '$lib/server/commands.ts';
import { database } from '$lib/server/database.ts';
import { model } from '$lib/server/model.ts';
import { noteWho } from '$lib/server/security.ts';
import type { RequestHandler } from './$types';

/** A control that no engine has taken by then is not carried out any more. */
const EXPIRES_AFTER_MS = 10_000;

/** What goes out for an order; throws 400 when the point is not to be operated like that. */
function sent(
  order: CommandOrder,
  point: PointConfig,
): Pick<NewCommand, 'counts' | 'text' | 'onMs' | 'offMs' | 'count'> {
  const { control, setting, kind, name } = point;
  if (order.operation === 'write') {
    const text = textToSend(order.text, point);
    if (!text.ok) error(400, `text: ${text.problem}`);
    return { counts: null, text: text.value, onMs: 0, offMs: 0, count: 1 };
  }
  if (order.operation === 'set') {
    if (kind !== 'setpoint' || setting === null) error(400, `pointId: ${name} is not to be set`);
    const counts = countsToSend(order.value, point);
    if (!counts.ok) error(400, `value: ${counts.problem}`);
    return { counts: counts.value, text: null, onMs: 0, offMs: 0, count: 1 };
  }
  if (kind !== 'output' || control === null) error(400, `pointId: ${name} is no control`);
  if (!control.operations.includes(order.operation))
    error(400, `operation: ${name} takes ${control.operations.join(', ')}, not ${order.operation}`);
  const { onMs, offMs, count } = order;
  return { counts: null, text: null, onMs, offMs, count };
}

/** Orders a control. The same id again answers with the command as it stands, and orders nothing. */
export const POST: RequestHandler = async (event) => {
  const { request, locals } = event;
  const order = await bodyOf(request, commandOrderSchema);
  const point = (await model()).points.get(order.pointId);
  if (point === undefined) error(404, `pointId: there is no point ${order.pointId}`);
  const now = Date.now();
  const { row, isNew } = await orderCommand(database, {
    id: order.id,
    pointId: order.pointId,
    operation: order.operation,
    // A text goes out in one message.
    mode: order.operation === 'write' ? 'direct' : order.mode,
    device: point.device.code,
    address: addressOf(point.config),
    ...sent(order, point.config),
    requestedBy: locals.person?.name ?? '',
    outbound: null,
    requested: now,
    expires: now + EXPIRES_AFTER_MS,
  });
  if (!isNew && (row.requestedBy !== locals.person?.name || row.pointId !== order.pointId))
    error(409, 'id: another command has it');
  if (isNew) await noteWho(event, 'control', `${order.operation} of ${point.device.code} ${point.config.name}`);
  return json(commandView(row), { status: isNew ? 201 : 200 });
};
