import { error } from '@sveltejs/kit';
import { webSettings } from '$lib/server/settings.ts';
import type { RequestHandler } from './$types';

const LIMIT_MS = 5000;
const MAX_BODY = 250_000;

/** Passes a request on to the bench, which takes none from web pages themselves. */
const pass: RequestHandler = async ({ params, request, url }) => {
  const { HALVIX_BENCH_URL: bench } = webSettings;
  if (bench === '') error(404, 'No bench runs beside this system');
  const body = request.method === 'GET' ? '' : await request.text();
  if (body.length > MAX_BODY) error(413, `The body has more than ${MAX_BODY} characters`);
  const path = params.path.split('/').map(encodeURIComponent).join('/');
  const answer = await fetch(`${bench}/${path}${url.search}`, {
    method: request.method,
    signal: AbortSignal.timeout(LIMIT_MS),
    ...(body === '' ? {} : { body }),
  }).catch(() => null);
  if (answer === null) error(502, 'The bench does not answer');
  const text = await answer.text();
  if (!answer.ok) error(answer.status, messageIn(text));
  return new Response(text, { headers: { 'content-type': 'application/json', 'cache-control': 'no-store' } });
};

function messageIn(text: string): string {
  try {
    const { error: words } = JSON.parse(text) as { error?: string };
    return words ?? 'The bench refused';
  } catch {
    return 'The bench refused';
  }
}

export const GET = pass;
export const PUT = pass;
export const POST = pass;
export const DELETE = pass;
