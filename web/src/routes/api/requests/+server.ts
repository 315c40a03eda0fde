import { requestSchema } from '@halvix/core/path';
import { json } from '@sveltejs/kit';
import { bodyOf } from '$lib/server/body.ts';
import { ask } from '$lib/server/live.ts';
import type { RequestHandler } from './$types';

/** Poll now, reset counters: passed on to the engine. */
export const POST: RequestHandler = async ({ request }) => {
  await ask(await bodyOf(request, requestSchema));
  return json({ asked: true }, { status: 202 });
};
