import { expanded, type DraftPoint, type MappingConfig } from '@halvix/core/config';
import { addressOf } from '@halvix/core/protocols';
import type { Held } from '../draft.svelte.ts';
import { pointKey, type MappedWords } from './grid.ts';

type Row = [id: number, version: number, parent: string, document: unknown];

async function rows<Document>(kind: 'point' | 'mapping', of: readonly string[] | null): Promise<Held<Document>[]> {
  const query = new URLSearchParams({ kind, ...(of === null ? {} : { of: of.join(',') }) });
  const answer = await fetch(`/api/draft/rows?${query}`);
  if (!answer.ok) throw new Error(`the server answered with ${answer.status}`);
  return heldRows<Document>(kind, (await answer.json()) as Row[]);
}

/** Rows as the server sends them, whole again. */
export const heldRows = <Document>(kind: 'point' | 'mapping', given: readonly Row[]): Held<Document>[] =>
  given.map(([id, version, parent, document]) => ({
    id,
    kind,
    parent,
    version,
    author: '',
    changed: 0,
    document: expanded(kind, document) as Document,
  }));

/** The points of some devices, or of all. */
export const pointRows = (devices: readonly string[] | null): Promise<Held<DraftPoint>[]> => rows('point', devices);

/** The mappings of some outbounds, or of all. */
export const mappingRows = (outbounds: readonly string[] | null): Promise<Held<MappingConfig>[]> =>
  rows('mapping', outbounds);

/** Rows with changed ones in their place, new ones in order, deleted ones gone. */
export function mergedRows<Row extends Held>(
  list: readonly Row[],
  changed: readonly Row[],
  order: ((a: Row, b: Row) => number) | null,
): Row[] {
  const news = new Map(changed.map((row) => [row.id, row]));
  const next: Row[] = [];
  for (const row of list) {
    const change = news.get(row.id);
    news.delete(row.id);
    if (change === undefined) next.push(row);
    else if (change.document !== null) next.push(change);
  }
  const fresh = [...news.values()].filter(({ document }) => document !== null);
  if (fresh.length === 0) return next;
  next.push(...fresh);
  return order === null ? next : next.sort(order);
}

/** Where each point is seen, in words: `QST AI 7, AMB AI 7`. */
export function mappedWords(mappings: readonly Held<MappingConfig>[]): MappedWords {
  const words = new Map<string, string>();
  for (const { parent, document } of mappings) {
    const key = pointKey(document.device, document.point);
    const word = `${parent} ${addressOf(document.target)}`;
    const known = words.get(key);
    words.set(key, known ? `${known}, ${word}` : word);
  }
  return words;
}

/** Targets that more than one mapping goes to, by address. */
export function targetsTwice(mappings: readonly Held<MappingConfig>[]): ReadonlySet<string> {
  const [seen, twice] = [new Set<string>(), new Set<string>()];
  for (const { document } of mappings) {
    const key = addressOf(document.target);
    if (seen.has(key)) twice.add(key);
    seen.add(key);
  }
  return twice;
}
