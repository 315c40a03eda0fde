import { agreementTable, agreementWith } from '@halvix/core/mapping';
import { loadDraft } from '@halvix/db';
import { error } from '@sveltejs/kit';
import { database } from '$lib/server/database.ts';
import type { PageServerLoad } from './$types';

export const load: PageServerLoad = async ({ params }) => {
  const code = params.code.toUpperCase();
  const { configuration } = await loadDraft(database);
  const outbound = configuration.outbounds.find((one) => one.code === code);
  if (outbound === undefined) error(404, `There is no outbound ${code}`);
  const agreement = agreementWith(outbound, configuration);
  return { code, network: configuration.network, agreement, table: agreementTable(agreement) };
};
