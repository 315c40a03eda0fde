import { ask, Refusal, type Dialogue } from '../../mms/dialogue.ts';
import type { AccessResult } from '../../mms/wire/data.ts';
import { BLOCKS, SPECIAL } from '../transfer.ts';

/** What a peer says of itself and of the agreement. */
export interface PeerTold {
  /** `2000.8`; empty: not said. */
  version: string;
  /** Conformance blocks that it has, from 1; null: not said. */
  blocks: readonly number[] | null;
  /** Null: not said. */
  table: string | null;
}

function* value(domain: string | null, item: string): Dialogue<AccessResult | null> {
  const name = domain === null ? { scope: 'vmd' as const, item } : { scope: 'domain' as const, domain, item };
  const answer = yield* ask('read', { variables: { names: [{ name }] } });
  const [found] = answer.ok ? answer.response.results : [];
  return found === undefined || found.type === 'failure' ? null : found;
}

export function* agreementOf(domain: string): Dialogue<PeerTold> {
  const version = yield* value(null, SPECIAL.version);
  const features = yield* value(null, SPECIAL.features);
  const table = yield* value(domain, SPECIAL.table);
  const numbers =
    version?.type === 'structure'
      ? version.items.map((one) => (one.type === 'integer' || one.type === 'unsigned' ? Number(one.value) : '?'))
      : [];
  return {
    version: numbers.join('.'),
    blocks: features?.type === 'bits' ? features.bits.flatMap((on, at) => (on ? [at + 1] : [])) : null,
    table: table?.type === 'text' ? table.text : null,
  };
}

/** Nothing is asked of a peer that has another agreement than ours. */
export function checkTable({ table }: PeerTold, wanted: string): void {
  if (wanted !== '' && table !== null && table !== wanted)
    throw new Refusal(`the peer has the bilateral table ${table === '' ? 'without a name' : table}, ours is ${wanted}`);
}

export const agreementWords = ({ version, blocks, table }: PeerTold): string =>
  [
    version === '' ? 'it does not say its version' : `version ${version}`,
    blocks === null ? 'it does not say its features' : `conformance blocks ${blocks.join(', ') || 'none'}`,
    table === null ? 'it names no bilateral table' : `bilateral table ${table === '' ? 'without a name' : table}`,
  ].join(', ');

/** What does not say which blocks it has is taken at its word when it is asked. */
export const hasExceptions = (told: PeerTold | null): boolean =>
  told === null || told.blocks === null || told.blocks.includes(BLOCKS.exception + 1);

export const hasReports = ({ blocks }: PeerTold): boolean =>
  blocks === null || blocks.includes(BLOCKS.exception + 1) || blocks.includes(BLOCKS.periodic + 1);
