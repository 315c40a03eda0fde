import { compacted, expanded, objectSort, upgradedObject, type ObjectKind } from '@halvix/core/config';
import type pg from 'pg';

const CHUNK = 2000;

interface Row {
  id: number;
  kind: ObjectKind;
  document: unknown;
  applied: [parent: string, document: unknown] | null;
}

/**
 * Brings the points and mappings of a draft that an earlier version wrote into today's form, and what the newest
 * revision had of them. Revisions stay as they were written: they are brought up to date when they are read.
 */
export async function upgradeDraft(client: pg.ClientBase): Promise<void> {
  for (;;) {
    const { rows } = await client.query<Row>(
      `select id, kind, document, applied from draft_object
       where kind in ('point', 'mapping') and (document ? 'index' or applied->1 ? 'index') order by id limit ${CHUNK}`,
    );
    if (rows.length === 0) break;
    const upgraded = rows.map(({ id, kind, document, applied }) => {
      const next = (one: unknown): unknown => expanded(kind, upgradedObject(kind, one));
      const now = next(document);
      return {
        id,
        document: compacted(kind, now),
        applied: applied && [applied[0], compacted(kind, next(applied[1]))],
        sort: objectSort(kind, now),
      };
    });
    await client.query(
      `update draft_object set sort = item->>'sort', document = nullif(item->'document', 'null'::jsonb),
         applied = nullif(item->'applied', 'null'::jsonb)
       from jsonb_array_elements($1::jsonb) as item where draft_object.id = (item->>'id')::int`,
      [JSON.stringify(upgraded)],
    );
    if (rows.length < CHUNK) break;
  }
}
