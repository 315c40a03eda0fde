import type { EngineRequest } from '@halvix/core/path';

/** Asks the engine for something; the answer is why that failed, or null. */
export async function ask(request: EngineRequest): Promise<string | null> {
  const answer = await post('/api/requests', request).catch(() => null);
  if (answer === null) return 'The server cannot be reached.';
  return answer.ok ? null : messageOf(answer);
}

export const post = (path: string, body: unknown): Promise<Response> =>
  fetch(path, { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify(body) });

/** What a refusal says. */
export async function messageOf(answer: Response): Promise<string> {
  const body: unknown = await answer.json().catch(() => null);
  const message = typeof body === 'object' && body !== null && 'message' in body ? String(body.message) : '';
  return message || `The server answered with ${answer.status}.`;
}
