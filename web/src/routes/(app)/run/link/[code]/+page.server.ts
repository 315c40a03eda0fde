import { bitsPerOctet, endpointWords } from '@halvix/core/config';
import { error } from '@sveltejs/kit';
import { model } from '$lib/server/model.ts';
import type { PageServerLoad } from './$types';

export const load: PageServerLoad = async ({ params }) => {
  const { configuration } = await model();
  const link = configuration.links.find(({ code }) => code === params.code);
  if (link === undefined) error(404, `There is no link ${params.code}`);
  const { code, name, type, line, calls } = link;
  return {
    link: { code, name, type, line, calls, endpoint: endpointWords(link), bitsPerOctet: bitsPerOctet(link) },
  };
};
