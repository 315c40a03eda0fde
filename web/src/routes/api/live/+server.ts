import { accountOfSession } from '@halvix/db';
import { error } from '@sveltejs/kit';
import { database } from '$lib/server/database.ts';
import { liveHub, askedFromQuery } from '$lib/server/live.ts';
import { IDLE_MS, sessionHash } from '$lib/server/sign-in.ts';
import type { RequestHandler } from './$types';

/** How often a stream asks whether its session still holds. */
const SESSION_CHECK_MS = 5000;
/** Browsers that one person may have open side by side; all pages of a browser share one stream. */
const MAX_STREAMS = 24;

/** Live values of what is on screen, as server-sent events. */
export const GET: RequestHandler = ({ url, cookies, request, locals }) => {
  const person = locals.person?.name ?? '';
  if (liveHub.full) error(503, 'Too many browsers are connected');
  if (liveHub.streamsOf(person) >= MAX_STREAMS) error(429, `At most ${MAX_STREAMS} browsers of one person at a time`);
  const asked = askedFromQuery(url.searchParams);
  const hash = sessionHash(cookies);
  let stop = (): void => {};
  const stream = new ReadableStream<string>(
    {
      start(controller) {
        controller.enqueue('retry: 1000\n\n');
        const close = (): void => {
          stop();
          try {
            controller.close();
          } catch {
            // Closed already by the browser.
          }
        };
        const remove = liveHub.add({
          asked,
          person,
          session: hash ?? '',
          end: close,
          send: (message) => controller.enqueue(`data: ${JSON.stringify(message)}\n\n`),
          ready: () => (controller.desiredSize ?? 0) > 0,
        });
        const check = setInterval(() => {
          void accountOfSession(database, hash ?? '', Date.now(), { idleMs: IDLE_MS, use: false }).then(
            (person) => person === null && close(),
            () => {},
          );
        }, SESSION_CHECK_MS);
        process.once('sveltekit:shutdown', close);
        stop = () => {
          remove();
          clearInterval(check);
          process.removeListener('sveltekit:shutdown', close);
        };
        request.signal.addEventListener('abort', close);
      },
      cancel: () => stop(),
    },
    { highWaterMark: 4 },
  );
  return new Response(stream.pipeThrough(new TextEncoderStream()), {
    headers: { 'content-type': 'text/event-stream', 'x-accel-buffering': 'no' },
  });
};
