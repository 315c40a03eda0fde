import { building } from '$app/environment';
import { accountOfSession } from '@halvix/db';
import { error, redirect, type Handle, type HandleServerError } from '@sveltejs/kit';
import { mayDo } from '$lib/server/access.ts';
import { database } from '$lib/server/database.ts';
import { bodyLimit } from '$lib/server/limits.ts';
import { noteWho } from '$lib/server/security.ts';
import { tellSetupSecret } from '$lib/server/setup.ts';
import { IDLE_MS, sessionHash } from '$lib/server/sign-in.ts';
import { webSettings } from '$lib/server/settings.ts';

/** What whoever has a password that somebody else set may do before it is changed. */
const BEFORE_ALL: ReadonlySet<string> = new Set(['/(app)/upkeep', '/sign-out', '/sign-in', '/healthz']);

export const handle: Handle = async ({ event, resolve }) => {
  const { request, url, route } = event;
  const isRead = request.method === 'GET' || request.method === 'HEAD';

  // One name for one place: another one would have no session, and might be somebody else's.
  const host = request.headers.get('host');
  if (host !== null && host !== url.host && route.id !== '/healthz') {
    if (!isRead) error(403, 'This server does not go by that name');
    redirect(307, `${url.origin}${url.pathname}${url.search}`);
  }
  if (!isRead && request.headers.get('origin') !== url.origin) error(403, 'The request came from another site');

  if (!isRead) {
    const limit = bodyLimit(route.id);
    const length = request.headers.get('content-length');
    if (length === null && request.body !== null) error(411, 'The request has to say how long it is');
    if (Number(length ?? 0) > limit) error(413, `The request has ${length} octets, here at most ${limit}`);
  }
  const hash = sessionHash(event.cookies);
  const use = { idleMs: IDLE_MS, use: route.id !== '/api/live' };
  event.locals.person = hash === null ? null : await accountOfSession(database, hash, Date.now(), use);

  if (route.id !== null) {
    const verdict = mayDo(event.locals.person?.role ?? null, route.id, request.method);
    const isPage = !route.id.startsWith('/api/');
    if (verdict === 'sign in' && isPage && isRead)
      redirect(303, `/sign-in${url.pathname === '/' ? '' : `?to=${encodeURIComponent(url.pathname + url.search)}`}`);
    if (verdict === 'sign in') error(401, 'Sign in first');
    if (verdict === 'no') await noteWho(event, 'refused', `${request.method} ${url.pathname}`);
    if (event.locals.person?.mustChange && !BEFORE_ALL.has(route.id)) {
      if (isPage && isRead) redirect(303, '/upkeep');
      error(403, 'Set a password of your own first');
    }
    if (verdict === 'no') error(403, `As ${event.locals.person?.role ?? 'a visitor'} you may not do this`);
  }
  const response = await resolve(event);
  if (webSettings.HALVIX_WEB_ORIGIN.startsWith('https:'))
    response.headers.set('strict-transport-security', 'max-age=63072000');
  if (!url.pathname.startsWith('/_app/')) response.headers.set('cache-control', 'no-store');
  return response;
};

export const handleError: HandleServerError = ({ error: thrown, status, message }) => {
  // What the sender did wrong is the sender's to know.
  if (status >= 500) {
    // Of a failed query the cause alone: the message has its parameters.
    const inner = thrown instanceof Error && thrown.cause instanceof Error ? thrown.cause : thrown;
    const reason = inner instanceof Error ? inner.message : String(inner);
    process.stdout.write(
      `${JSON.stringify({ time: new Date().toISOString(), level: 'error', words: 'request failed', reason })}\n`,
    );
  }
  return { message: status === 500 ? 'The server could not do this. Its log says why.' : message };
};

if (!building) void tellSetupSecret();
