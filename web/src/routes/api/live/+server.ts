import { accountOfSession } from '@halvix/db';
import { error } from '@sveltejs/kit';
import { database } from '$lib/server/database.ts';
import { liveHub, topicsFromQuery } from '$lib/server/live.ts';
import { sessionHash } from '$lib/server/sign-in.ts';
import type { RequestHandler } from './$types';

/** How often a stream asks whether its session still holds. */
const SESSION_CHECK_MS = 15_000;

/** Live values of what is on screen, as server-sent events. */
export const GET: RequestHandler = ({ url, cookies, request }) => {
  if (liveHub.full) error(503, 'Too many browsers are connected');
  const topics = topicsFromQuery(url.searchParams);
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
          topics,
          send: (message) => controller.enqueue(`data: ${JSON.stringify(message)}\n\n`),
          ready: () => (controller.desiredSize ?? 0) > 0,
        });
        const check = setInterval(() => {
          void accountOfSession(database, hash ?? '', Date.now()).then(
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
