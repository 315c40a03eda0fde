import { redirect } from '@sveltejs/kit';
import { liveHub } from '$lib/server/live.ts';
import { noteWho } from '$lib/server/security.ts';
import { endSession } from '$lib/server/sign-in.ts';
import type { RequestHandler } from './$types';

export const POST: RequestHandler = async (event) => {
  const ended = await endSession(event.cookies);
  if (ended !== null) {
    liveHub.endSessions([ended]);
    await noteWho(event, 'sign-out', '');
  }
  redirect(303, '/sign-in');
};
