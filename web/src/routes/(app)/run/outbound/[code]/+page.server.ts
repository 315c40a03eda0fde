import { outboundEnds } from '@halvix/core/config';
import { error } from '@sveltejs/kit';
import { model } from '$lib/server/model.ts';
import type { PageServerLoad } from './$types';

export const load: PageServerLoad = async ({ params }) => {
  const { configuration } = await model();
  const outbound = configuration.outbounds.find(({ code }) => code === params.code.toUpperCase());
  if (outbound === undefined) error(404, `There is no outbound ${params.code}`);
  const { code, link: on } = outbound;
  const link = configuration.links.find((one) => one.code === on);
  return { outboundCode: code, link: on, ends: outboundEnds({ ...outbound }, link) };
};
