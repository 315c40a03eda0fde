import type { TypeOf } from '../../mms/wire/data.ts';
import { print, type Reference } from '../model/reference.ts';
import { broughtBy, placed, type NodeTypes, type Placing, type Wanted } from './wanted.ts';

/** A report control block of the device. */
export interface Block {
  domain: string;
  /** `LLN0$BR$brcb01`. */
  item: string;
  isBuffered: boolean;
  /** As MMS has it: `HLMF1/LLN0$measurements`; empty: it has none. */
  dataSet: string;
  of: TypeOf;
}

export interface DataSet {
  /** As MMS has it: `HLMF1/LLN0$measurements`. */
  name: string;
  members: readonly Reference[];
}

/** A data set that is to be reported, by one of these blocks, the one that is wanted most first. */
export interface Assigned {
  set: DataSet;
  blocks: readonly Block[];
  placings: readonly (readonly Placing[])[];
  brings: ReadonlySet<Wanted>;
  /** It is to be made in the device. */
  isMade?: boolean;
}

export interface Assignment {
  reports: Assigned[];
  /** What no report brings. */
  rest: Wanted[];
}

/**
 * Which reports bring what is wanted, with as few of them as it takes: again and again the data set that brings most of
 * what is still missing, the smaller one of two. `held`: blocks that are ours already come first.
 */
export function assign(
  wanted: readonly Wanted[],
  blocks: readonly Block[],
  sets: readonly DataSet[],
  types: NodeTypes,
  { prefers, held }: { prefers: 'buffered' | 'unbuffered' | 'none'; held: (block: Block) => boolean },
): Assignment {
  if (prefers === 'none') return { reports: [], rest: [...wanted] };
  const rank = (block: Block): number => (held(block) ? 0 : block.isBuffered === (prefers === 'buffered') ? 1 : 2);
  const reportable = wanted.filter(({ point }) => point.at.way !== 'poll');
  const offers = sets.flatMap((set): Assigned[] => {
    const own = blocks.filter(({ dataSet }) => dataSet === set.name).sort((a, b) => rank(a) - rank(b));
    if (own.length === 0) return [];
    const placings = placed(set.members, reportable, types);
    return [{ set, blocks: own, placings, brings: broughtBy(placings) }];
  });
  const missing = new Set<Wanted>(reportable);
  const reports: Assigned[] = [];
  const left = new Set(offers);
  for (;;) {
    let best: { offer: Assigned; count: number } | null = null;
    for (const offer of left) {
      let count = 0;
      for (const one of offer.brings) if (missing.has(one)) count++;
      if (count === 0) continue;
      const better =
        best === null ||
        count > best.count ||
        (count === best.count && offer.set.members.length < best.offer.set.members.length);
      if (better) best = { offer, count };
    }
    if (best === null) break;
    left.delete(best.offer);
    reports.push(best.offer);
    for (const one of best.offer.brings) missing.delete(one);
  }
  const brought = new Set(wanted);
  for (const { brings } of reports) for (const one of brings) brought.delete(one);
  return { reports, rest: [...brought] };
}

/** Members of a data set that we make, at most: devices have room for so many (common practice). */
const MOST_MADE = 100;

/** Data sets that are made for what no other brings, as far as there are blocks without one. */
export function assignMade(
  rest: readonly Wanted[],
  spare: readonly Block[],
  types: NodeTypes,
  { prefers, held }: { prefers: 'buffered' | 'unbuffered' | 'none'; held: (block: Block) => boolean },
): Assignment {
  const reportable = rest.filter(({ point }) => point.at.way !== 'poll' && REPORTED.has(point.at.fc));
  if (prefers === 'none' || spare.length === 0) return { reports: [], rest: [...rest] };
  // Those that are ours already first, then in the order of the device.
  const rank = (block: Block): number =>
    (held(block) ? 0 : block.dataSet === '' ? 2 : 1) + (block.isBuffered === (prefers === 'buffered') ? 0 : 3);
  const blocks = [...spare].sort((a, b) => rank(a) - rank(b));
  const wholes = [...new Map(reportable.map(({ whole }) => [print(whole), whole] as const)).values()];
  const reports: Assigned[] = [];
  for (let from = 0; from < wholes.length && reports.length < spare.length; from += MOST_MADE) {
    const members = wholes.slice(from, from + MOST_MADE);
    const placings = placed(members, reportable, types);
    // By its members: one that has others is another.
    const name = `${MADE}${members.map(print).join(' ')}`;
    reports.push({ set: { name, members }, blocks, placings, brings: broughtBy(placings), isMade: true });
  }
  const brought = new Set(reports.flatMap(({ brings }) => [...brings]));
  return { reports, rest: rest.filter((one) => !brought.has(one)) };
}
const MADE = 'made: ';
/** What data sets for reports may have (IEC 61850-7-2, 17.2: status and measurands). */
const REPORTED: ReadonlySet<string> = new Set(['ST', 'MX', 'CO']);

/** The name of an instance is that of its block with two digits behind it: one is as good as the next. */
export const blockName = ({ domain, item }: Pick<Block, 'domain' | 'item'>): string => `${domain}/${item}`;
