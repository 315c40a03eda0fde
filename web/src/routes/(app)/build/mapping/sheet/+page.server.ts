import { endpointWords } from '@halvix/core/config';
import { mapSheet } from '@halvix/core/mapping';
import { loadDraft } from '@halvix/db';
import { error } from '@sveltejs/kit';
import { database } from '$lib/server/database.ts';
import type { PageServerLoad } from './$types';

export const load: PageServerLoad = async ({ url }) => {
  const code = url.searchParams.get('outbound');
  const { configuration } = await loadDraft(database);
  const outbound = configuration.outbounds.find((one) => one.code === code);
  if (outbound === undefined) error(404, `There is no outbound ${code ?? ''}`);
  const link = configuration.links.find((one) => one.code === outbound.link);
  return {
    outbound: { ...outbound, mappings: [] },
    endpoint: link ? endpointWords(link) : '',
    network: configuration.network,
    rows: mapSheet(outbound, configuration.devices),
  };
};
