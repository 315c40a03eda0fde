import { fileEntriesSchema } from '@halvix/core/path';
import { transfersOf } from '@halvix/db';
import { error } from '@sveltejs/kit';
import { database } from '$lib/server/database.ts';
import { deviceByCode, model } from '$lib/server/model.ts';
import type { PageServerLoad } from './$types';

export const load: PageServerLoad = async ({ params, depends }) => {
  depends('halvix:files');
  const device = deviceByCode(await model(), params.code);
  if (device === undefined) error(404, `There is no device ${params.code}`);
  const transfers = await transfersOf(database, device.code);
  return {
    deviceCode: device.code,
    transfers: transfers.map(({ entries, engine: _engine, ...row }) => ({
      ...row,
      entries: row.what === 'directory' ? (fileEntriesSchema.safeParse(entries).data ?? null) : null,
    })),
  };
};
