import {
  compacted,
  expanded,
  objectSort,
  sameDocument,
  upgradedObject,
  withLinks,
  type ObjectKind,
} from '@halvix/core/config';
import type pg from 'pg';

const CHUNK = 2000;

interface Row {
  id: number;
  kind: ObjectKind;
  document: unknown;
  applied: [parent: string, document: unknown] | null;
}

/**
 * Brings a draft that an earlier version wrote into today's form, and what the newest revision had of it. Revisions stay
 * as they were written: they are brought up to date when they are read.
 */
export async function upgradeDraft(client: pg.ClientBase): Promise<void> {
  await upgradeRows(client);
  await upgradeOutbounds(client);
}

async function upgradeRows(client: pg.ClientBase): Promise<void> {
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

/** Outbounds that say themselves where we listen get links, in the draft and in what the newest revision had of it. */
async function upgradeOutbounds(client: pg.ClientBase): Promise<void> {
  const rowsOf = async (kind: ObjectKind): Promise<Row[]> =>
    (
      await client.query<Row>(`select id, kind, document, applied from draft_object where kind = $1 order by id`, [
        kind,
      ])
    ).rows;
  const outbounds = await rowsOf('outbound');
  const isOld = (one: unknown): boolean => one !== null && typeof one === 'object' && 'port' in one;
  if (!outbounds.some(({ document, applied }) => isOld(document) || isOld(applied?.[1]))) return;
  const links = await rowsOf('link');
  const codes = (documents: readonly unknown[]): Set<string> =>
    new Set(documents.flatMap((one) => (one === null ? [] : [(one as { code: string }).code])));
  const now = withLinks(
    outbounds.map(({ document }) => document),
    codes(links.map(({ document }) => document)),
  );
  const before = withLinks(
    outbounds.map(({ applied }) => applied?.[1] ?? null),
    codes(links.map(({ applied }) => applied?.[1] ?? null)),
  );
  await client.query('begin');
  for (const [at, { id, applied }] of outbounds.entries())
    await client.query('update draft_object set document = $2, applied = $3 where id = $1', [
      id,
      asJson(now.outbounds[at] && expanded('outbound', now.outbounds[at])),
      asJson(applied && [applied[0], expanded('outbound', before.outbounds[at])]),
    ]);
  for (const code of [...codes(now.links), ...codes(before.links)].filter((one, at, all) => all.indexOf(one) === at)) {
    const find = (made: readonly unknown[]): unknown => made.find((one) => (one as { code: string }).code === code);
    const [document, applied] = [find(now.links), find(before.links)].map((one) =>
      one === undefined ? null : expanded('link', one),
    );
    // As old as what it comes from, but where the draft had another port: that was somebody's change.
    const source = applied !== null && sameDocument(document, applied) ? 'min' : 'max';
    await client.query(
      `insert into draft_object (kind, parent, document, applied, version, author, changed)
       select 'link', '', $1, $2, ${source}(version), (array_agg(author order by version desc))[1], ${source}(changed)
       from draft_object where kind = 'outbound'`,
      [asJson(document), asJson(applied && ['', applied])],
    );
  }
  await client.query('commit');
}

const asJson = (value: unknown): string | null =>
  value === null || value === undefined ? null : JSON.stringify(value);
