import { json } from '@sveltejs/kit';
import { model } from '$lib/server/model.ts';
import { search } from '$lib/server/search.ts';
import type { RequestHandler } from './$types';

export const GET: RequestHandler = async ({ url }) =>
  json(search(await model(), (url.searchParams.get('q') ?? '').slice(0, 100)));
