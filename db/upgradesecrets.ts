import {
  compacted,
  expanded,
  secretsOf,
  storedAs,
  storedNumber,
  withSecrets,
  type ObjectKind,
  type PlacedSecret,
} from '@halvix/core/config';
import { randomUUID } from 'node:crypto';
import type pg from 'pg';
import { secretKeys, type SecretKeys } from './secrets.ts';

/** Lists of a revision whose objects may have secrets, without what hangs on them. */
const LISTS = [
  { list: 'links', kind: 'link', without: '' },
  { list: 'devices', kind: 'device', without: 'points' },
  { list: 'outbounds', kind: 'outbound', without: 'mappings' },
] as const;

interface Row {
  id: number;
  kind: ObjectKind;
  document: unknown;
  applied: [parent: string, document: unknown] | null;
}

/**
 * Puts away the secrets that earlier versions wrote into the draft and into revisions, which only the owner of the tables
 * may change. One that stood in several documents of an object is one afterwards too. Returns how many stand there still,
 * for want of a key.
 */
export async function putStoredAway(client: pg.ClientBase): Promise<number> {
  await client.query('begin');
  try {
    const away = new Away(client, secretKeys());
    const left = (await draftPutAway(client, away)) + (await revisionsPutAway(client, away));
    await client.query('commit');
    return left;
  } catch (error) {
    await client.query('rollback');
    throw error;
  }
}

class Away {
  private readonly known = new Map<string, string>();
  private fresh: { id: string; sealed: Buffer }[] = [];
  /** How many could not be put away. */
  left = 0;

  constructor(
    private readonly client: pg.ClientBase,
    private readonly keys: SecretKeys | null,
  ) {}

  readonly put = (given: PlacedSecret): string => {
    const { kind, code, field, value } = given;
    if (storedNumber(value) !== null) return value;
    if (this.keys === null) {
      this.left++;
      return value;
    }
    const key = JSON.stringify([kind, code, field.path, value]);
    let id = this.known.get(key);
    if (id === undefined) {
      id = randomUUID();
      this.known.set(key, id);
      this.fresh.push({ id, sealed: this.keys.seal(id, value) });
    }
    return storedAs(id);
  };

  /** Before a document names them. */
  async store(): Promise<void> {
    for (const { id, sealed } of this.fresh)
      await this.client.query('insert into secret (id, sealed, kept, made) values ($1, $2, true, now())', [id, sealed]);
    this.fresh = [];
  }
}

/** An object of an earlier version as far as it can be read: of what is not known there are no secrets. */
function secretsIn(kind: ObjectKind, document: unknown): PlacedSecret[] {
  try {
    return secretsOf({ kind, document }).filter(({ value }) => storedNumber(value) === null);
  } catch {
    return [];
  }
}

async function draftPutAway(client: pg.ClientBase, away: Away): Promise<number> {
  const before = away.left;
  const { rows } = await client.query<Row>(
    `select id, kind, document, applied from draft_object where kind = any($1::text[])`,
    [LISTS.map(({ kind }) => kind)],
  );
  for (const { id, kind, document, applied } of rows) {
    const hasSome = [document, applied?.[1]].some(
      (one) => one != null && secretsIn(kind, expanded(kind, one)).length > 0,
    );
    if (!hasSome) continue;
    const next = (one: unknown): unknown =>
      one == null ? null : compacted(kind, withSecrets(kind, expanded(kind, one), away.put));
    const values = [next(document), applied && [applied[0], next(applied[1])]];
    await away.store();
    await client.query('update draft_object set document = $2, applied = $3 where id = $1', [
      id,
      ...values.map((one) => (one === null ? null : JSON.stringify(one))),
    ]);
  }
  return away.left - before;
}

async function revisionsPutAway(client: pg.ClientBase, away: Away): Promise<number> {
  const { rows: open } = await client.query<{ id: number }>('select id from revision where not sealed order by id');
  if (open.length === 0) return 0;
  // Whoever only uses the tables leaves revisions to their owner.
  const { rows: owned } = await client.query<{ own: boolean }>(
    `select tableowner = current_user as own from pg_tables where schemaname = 'public' and tablename = 'revision'`,
  );
  if (!owned.some(({ own }) => own)) return open.length;
  await client.query('alter table revision disable trigger revision_never_changed');
  let left = 0;
  for (const { id } of open) {
    const before = away.left;
    for (const { list, kind, without } of LISTS) {
      const { rows } = await client.query<{ place: string; document: object }>(
        `select place - 1 as place, one - $2::text as document
         from revision, jsonb_array_elements(document->$3) with ordinality as item (one, place) where id = $1`,
        [id, without, list],
      );
      for (const { place, document } of rows)
        for (const secret of secretsIn(kind, document)) {
          const path = [list, place, ...secret.field.path.split('.')];
          const value = away.put(secret);
          await away.store();
          if (value !== secret.value)
            await client.query(
              'update revision set document = jsonb_set(document, $2, to_jsonb($3::text)) where id = $1',
              [id, path, value],
            );
        }
    }
    const found = away.left - before;
    if (found === 0) await client.query('update revision set sealed = true where id = $1', [id]);
    left += found;
  }
  await client.query('alter table revision enable trigger revision_never_changed');
  return left;
}
