import '@halvix/core/words';
import { error } from '@sveltejs/kit';
import type { z } from 'zod';

/** The JSON body of a request, checked; what is wrong is answered with the field and its limit. */
export async function bodyOf<Schema extends z.ZodType>(request: Request, schema: Schema): Promise<z.infer<Schema>> {
  let body: unknown;
  try {
    body = await request.json();
  } catch {
    error(400, 'The body is not JSON');
  }
  const parsed = schema.safeParse(body);
  if (!parsed.success)
    error(400, parsed.error.issues.map(({ path, message }) => `${path.join('.')}: ${message}`).join('; '));
  return parsed.data;
}

/** The fields of a form; a body that is none is the sender's mistake. */
export async function formOf(request: Request): Promise<FormData> {
  try {
    return await request.formData();
  } catch {
    error(400, 'The body is not a form');
  }
}
