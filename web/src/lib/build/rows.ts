import { expanded, type DraftPoint, type MappingConfig } from '@halvix/core/config';
import type { Held } from './draft.svelte.ts';

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
