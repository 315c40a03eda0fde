import { countDraftRows, draftObjects, draftRowsText } from '@halvix/db';
import type { DeviceObject } from '@halvix/core/config';
import { database } from '$lib/server/database.ts';
import type { PageServerLoad } from './$types';

/** So many rows come with the page; the rest follows. */
const FIRST_ROWS = 60;

export const load: PageServerLoad = async ({ url }) => {
  const device = url.searchParams.get('device');
  const station = url.searchParams.get('station');
  const devices = (await draftObjects(database, { kinds: ['device'] })).map(({ document }) => document as DeviceObject);
  const of =
    device !== null
      ? [device]
      : station !== null
        ? devices.filter((one) => one.station === station).map(({ code }) => code)
        : null;
  return {
    device,
    station,
    of,
    count: await countDraftRows(database, 'point', of),
    first: JSON.parse(await draftRowsText(database, 'point', of, FIRST_ROWS)) as [number, number, string, unknown][],
  };
};
