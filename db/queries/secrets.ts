import {
  allSecrets,
  secretsOf,
  storedAs,
  storedNumber,
  withAllSecrets,
  withSecrets,
  type Configuration,
  type ConfigurationProblem,
  type ObjectKind,
  type PlacedSecret,
} from '@halvix/core/config';
import { and, eq, inArray, lt, sql } from 'drizzle-orm';
import { randomUUID } from 'node:crypto';
import type { Database } from '../open.ts';
import { secret } from '../schema/index.ts';
import { SecretProblem, secretKeys } from '../secrets.ts';

type Transaction = Parameters<Parameters<Database['transaction']>[0]>[0];
type Store = Database | Transaction;

/** What is only tried, and stands in no draft, is forgotten after that. */
const TRIED_MS = 24 * 3_600_000;
const KEEP_ELSEWHERE = 'it is kept where this document comes from; give it again here';

const whose = ({ kind, code, field }: PlacedSecret): string =>
  code === '' ? field.title : `${kind} ${code}, ${field.title}`;

/** Puts secrets away as they are replaced in documents. */
class Putting {
  private readonly rows: (typeof secret.$inferInsert)[] = [];
  private readonly named = new Set<string>();

  constructor(
    private readonly kept: boolean,
    private readonly now: number,
  ) {}

  /** What stands in the document from now on. */
  readonly put = (given: PlacedSecret): string => {
    const known = storedNumber(given.value);
    if (known !== null) {
      this.named.add(known);
      return given.value;
    }
    const keys = secretKeys();
    if (keys === null)
      throw new SecretProblem(
        `${whose(given)}: cannot be kept, for there is no key to seal it with: HALVIX_SECRETS_KEY_FILE is not set`,
      );
    const id = randomUUID();
    this.rows.push({ id, sealed: keys.seal(id, given.value), kept: this.kept, made: this.now });
    return storedAs(id);
  };

  async store(store: Store): Promise<void> {
    if (this.rows.length > 0) await store.insert(secret).values(this.rows);
    // One that was tried first, and then taken into the draft.
    if (this.kept && this.named.size > 0)
      await store
        .update(secret)
        .set({ kept: true })
        .where(and(inArray(secret.id, [...this.named]), eq(secret.kept, false)));
  }
}

/**
 * The same objects with their secrets put away, for the draft and revisions; throws a SecretProblem when there is no key.
 */
export async function putAway<Item extends { kind: ObjectKind; document: unknown }>(
  tx: Transaction,
  objects: readonly Item[],
  now: number,
): Promise<Item[]> {
  const putting = new Putting(true, now);
  const changed = objects.map((object) =>
    secretsOf(object).length === 0
      ? object
      : { ...object, document: withSecrets(object.kind, object.document, putting.put) },
  );
  await putting.store(tx);
  return changed;
}

/** The same of a whole configuration; one that names a secret which is not kept here throws too. */
export async function putAllAway(tx: Transaction, configuration: Configuration, now: number): Promise<Configuration> {
  const [unknown] = await unknownSecrets(tx, configuration);
  if (unknown !== undefined) throw new SecretProblem(`${unknown.where}: ${unknown.words}`);
  const putting = new Putting(true, now);
  const changed = withAllSecrets(configuration, putting.put);
  await putting.store(tx);
  return changed;
}

/** The same of an object that is only tried. */
export async function putTriedAway<Document>(
  tx: Transaction,
  kind: ObjectKind,
  document: Document,
  now: number,
): Promise<Document> {
  await tx.delete(secret).where(and(eq(secret.kept, false), lt(secret.made, now - TRIED_MS)));
  const putting = new Putting(false, now);
  const changed = withSecrets(kind, document, putting.put);
  await putting.store(tx);
  return changed;
}

/** Secrets that a configuration names and that are not kept here. */
export async function unknownSecrets(store: Store, configuration: Configuration): Promise<ConfigurationProblem[]> {
  const named = allSecrets(configuration).flatMap((given) => {
    const number = storedNumber(given.value);
    return number === null ? [] : [{ given, number }];
  });
  if (named.length === 0) return [];
  const known = await rowsNamed(store, named);
  return named
    .filter(({ number }) => !known.has(number))
    .map(({ given }) => ({
      severity: 'problem',
      where: `${given.kind} ${given.code}`,
      words: `${given.field.title}: ${KEEP_ELSEWHERE}`,
      at: { kind: given.kind, parent: '', key: given.code },
    }));
}

async function rowsNamed(store: Store, named: readonly { number: string }[]): Promise<Map<string, Uint8Array>> {
  const numbers = named.map(({ number }) => number);
  const rows = await store
    .select({ id: secret.id, sealed: secret.sealed })
    .from(secret)
    .where(inArray(secret.id, numbers));
  return new Map(rows.map(({ id, sealed }) => [id, sealed]));
}

/** A secret that cannot be had, and why. */
export interface ClosedSecret {
  kind: ObjectKind;
  code: string;
  words: string;
}

/** What each of the secrets is, by the number under which it is kept; and those that cannot be had. */
async function opened(
  store: Store,
  given: readonly PlacedSecret[],
): Promise<{ texts: Map<string, string>; closed: ClosedSecret[] }> {
  const named = given.flatMap((one) => {
    const number = storedNumber(one.value);
    return number === null ? [] : [{ given: one, number }];
  });
  const texts = new Map<string, string>();
  const closed: ClosedSecret[] = [];
  if (named.length === 0) return { texts, closed };
  const rows = await rowsNamed(store, named);
  const keys = secretKeys();
  for (const { given: one, number } of named) {
    const sealed = rows.get(number);
    const text = sealed === undefined ? null : (keys?.open(number, sealed) ?? null);
    if (text !== null) {
      texts.set(number, text);
      continue;
    }
    const { kind, code, field } = one;
    const why =
      sealed === undefined
        ? KEEP_ELSEWHERE
        : keys === null
          ? 'it is kept sealed, and HALVIX_SECRETS_KEY_FILE, which names the key, is not set'
          : 'it is kept sealed by a key that is not in the file of HALVIX_SECRETS_KEY_FILE';
    closed.push({ kind, code, words: `${field.title}: ${why}` });
  }
  return { texts, closed };
}

const asOpened =
  (texts: ReadonlyMap<string, string>) =>
  ({ value }: PlacedSecret): string => {
    const number = storedNumber(value);
    return number === null ? value : (texts.get(number) ?? '');
  };

/**
 * A configuration with its secrets as they are, for whoever speaks with the other side: it is never stored, shown or
 * logged. Whose secret cannot be had is said; it is empty there.
 */
export async function withOpenSecrets(
  store: Store,
  configuration: Configuration,
): Promise<{ configuration: Configuration; closed: ClosedSecret[] }> {
  const { texts, closed } = await opened(store, allSecrets(configuration));
  return { configuration: withAllSecrets(configuration, asOpened(texts)), closed };
}

/** The same of one object. */
export async function withOpenSecretsOf<Document>(
  store: Store,
  kind: ObjectKind,
  document: Document,
): Promise<{ document: Document; closed: ClosedSecret[] }> {
  const { texts, closed } = await opened(store, secretsOf({ kind, document }));
  return { document: withSecrets(kind, document, asOpened(texts)), closed };
}

/** Seals all secrets by the newest key; tells how many were sealed anew, and how many no key of this process opens. */
export async function sealAnew(database: Database): Promise<{ sealed: number; closed: number }> {
  const keys = secretKeys();
  if (keys === null) throw new SecretProblem('HALVIX_SECRETS_KEY_FILE is not set');
  return database.transaction(async (tx) => {
    await tx.execute(sql`lock table secret in share row exclusive mode`);
    const counts = { sealed: 0, closed: 0 };
    for (const { id, sealed } of await tx.select().from(secret)) {
      if (keys.isNewest(sealed)) continue;
      const text = keys.open(id, sealed);
      if (text === null) {
        counts.closed++;
        continue;
      }
      await tx
        .update(secret)
        .set({ sealed: keys.seal(id, text) })
        .where(eq(secret.id, id));
      counts.sealed++;
    }
    return counts;
  });
}
