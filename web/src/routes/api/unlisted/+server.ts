import { codeSchema, draftPointSchema, type DeviceObject, type DraftPoint } from '@halvix/core/config';
import { addressOf, readAddress } from '@halvix/core/protocols';
import { newPoint } from '@halvix/core/pointlist';
import { changeDraft, draftObjects, hopStates, type DraftChange } from '@halvix/db';
import { error, json } from '@sveltejs/kit';
import { z } from 'zod';
import { bodyOf } from '$lib/server/body.ts';
import { database } from '$lib/server/database.ts';
import type { RequestHandler } from './$types';

const bodySchema = z.object({ device: codeSchema });

/** Takes the points that a device sends and its list lacks into the draft, named after their addresses. */
export const POST: RequestHandler = async ({ request, locals }) => {
  const { device } = await bodyOf(request, bodySchema);
  const state = (await hopStates(database)).device.get(device)?.state;
  const known = await draftObjects(database, { kinds: ['point'], parent: device });
  const devices = await draftObjects(database, { kinds: ['device'] });
  const found = devices.find(({ document }) => (document as DeviceObject).code === device);
  if (found === undefined) error(404, `device: there is no device ${device} in the draft`);
  const taken = new Set(known.map(({ document }) => addressOf(document as DraftPoint)));
  const changes = (state?.unlistedPoints ?? [])
    .flatMap(({ kind, address }) => {
      const { protocol } = found.document as DeviceObject;
      const read = readAddress(protocol, address);
      return read ? [{ ...newPoint(protocol, kind, null, '-'), at: read.at }] : [];
    })
    .filter((point) => !taken.has(addressOf(point)))
    .map((point): DraftChange => ({
      ...{ id: null, kind: 'point', parent: device, expected: null },
      document: draftPointSchema.parse({ ...point, control: null, setting: null, name: addressOf(point) }),
    }));
  if (changes.length > 0) await changeDraft(database, changes, locals.person?.name ?? '', Date.now());
  return json({ taken: changes.length });
};
