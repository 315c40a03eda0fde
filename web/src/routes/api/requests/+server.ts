import { personalRequestSchema } from '@halvix/core/path';
import { definitionOf, deviceOf, wayOut } from '@halvix/core/protocols';
import { error, json } from '@sveltejs/kit';
import { mayOrder } from '$lib/server/access.ts';
import { bodyOf } from '$lib/server/body.ts';
import { ask } from '$lib/server/live.ts';
import { deviceByCode, model } from '$lib/server/model.ts';
import { noteWho } from '$lib/server/security.ts';
import type { RequestHandler } from './$types';

const DAY_MS = 86_400_000;
const MOST_SPAN_MS = 31 * DAY_MS;

/**
 * Poll now, reset counters, an order to a device: passed on to the engine, in the name of who asks. What engine and web
 * say to each other besides cannot be said from here.
 */
export const POST: RequestHandler = async (event) => {
  const { request, locals } = event;
  const body = await bodyOf(request, personalRequestSchema);
  const { person } = locals;
  if (person === null) error(401, 'Sign in first');
  if (body.type === 'order') {
    const device = deviceByCode(await model(), body.device);
    if (device === undefined) error(404, `device: there is no device ${body.device}`);
    const { orders } = deviceOf(device.protocol);
    if (!orders.schema.safeParse(body.order).success) error(400, `order: ${device.code} cannot be asked that`);
    if (!mayOrder(person.role, device.protocol, body.order))
      error(403, 'What changes how a device works is for engineers');
    await noteWho(event, 'order', `${device.code}: ${orders.words(body.order)}`);
  }
  if (body.type === 'outboundOrder') {
    const outbound = (await model()).configuration.outbounds.find(({ code }) => code === body.outbound);
    if (outbound === undefined) error(404, `outbound: there is no outbound ${body.outbound}`);
    const order = wayOut(outbound.protocol)?.orders?.[body.order];
    if (order === undefined) error(400, `order: ${outbound.code} cannot be asked that`);
    await noteWho(event, 'order', `${outbound.code}: ${order.words}`);
  }
  if (body.type === 'sendPacket' || body.type === 'sendSpan') {
    const outbound = (await model()).configuration.outbounds.find(({ code }) => code === body.outbound);
    if (outbound === undefined) error(404, `outbound: there is no outbound ${body.outbound}`);
    if (definitionOf(outbound.protocol).publishes === null)
      error(400, `outbound: nothing is sent to ${outbound.code}, it asks for itself`);
    if (body.type === 'sendSpan') {
      if (body.to <= body.from) error(400, 'to: must be later than from');
      if (body.to - body.from > MOST_SPAN_MS)
        error(400, `to: must be at most ${MOST_SPAN_MS / DAY_MS} days after from`);
    }
    const what =
      body.type === 'sendPacket'
        ? `packet ${body.packet}`
        : `history from ${new Date(body.from).toISOString()} to ${new Date(body.to).toISOString()}`;
    await noteWho(event, 'order', `${outbound.code}: ${what} once more`);
  }
  await ask('by' in body ? { ...body, by: person.name } : body);
  return json({ asked: true }, { status: 202 });
};
