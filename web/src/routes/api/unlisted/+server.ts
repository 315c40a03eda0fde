import { codeSchema, draftPointSchema, type DeviceObject, type DraftPoint } from '@halvix/core/config';
import { addressWords } from '@halvix/core/point';
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
  if (!devices.some(({ document }) => (document as DeviceObject).code === device))
    error(404, `device: there is no device ${device} in the draft`);
  const taken = new Set(known.map(({ document }) => keyOf(document as DraftPoint)));
  const changes = (state?.unlistedPoints ?? [])
    .filter((point) => !taken.has(keyOf(point)))
    .map(({ kind, index }): DraftChange => ({
      ...{ id: null, kind: 'point', parent: device, expected: null },
      document: draftPointSchema.parse({ kind, index, name: addressWords(kind, index) }),
    }));
  if (changes.length > 0) await changeDraft(database, changes, locals.person?.name ?? '', Date.now());
  return json({ taken: changes.length });
};

const keyOf = ({ kind, index }: { kind: string; index: number | null }): string => `${kind} ${index}`;
