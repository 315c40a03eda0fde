import type { LinkTiming, Placed, RequestPlan } from '../definition.ts';
import { blockWords, planBlocks, planNumbers } from './client/blocks.ts';
import { widthOf, type ModbusDraftAt } from './points.ts';
import { GROUPS, periodOf, type ClientSettings } from './settings.ts';
import { framingNamed } from './wire/frame.ts';

/** Which requests bring a list: the ones that go out, before the device has refused any of it. */
export function requestPlan(
  points: readonly Placed<ModbusDraftAt>[],
  settings: ClientSettings,
  { framing, octetMs }: LinkTiming,
): RequestPlan {
  const placed = points.flatMap(({ kind, at }, id) => {
    const { address } = at;
    return address === null ? [] : [{ id, kind, at: { ...at, address } }];
  });
  const named = framingNamed(framing);
  const blocks = planBlocks(placed, settings, named, octetMs);
  return {
    rounds: GROUPS.map((group) => ({
      what: `Group ${group}`,
      everyMs: periodOf(settings, group),
      requests: blocks
        .filter((block) => block.group === group)
        .map((block) => {
          const wanted = new Set<number>();
          for (const { at } of block.points) for (let n = 0; n < widthOf(at); n++) wanted.add(at.address + n);
          const { octets } = planNumbers([block], named, octetMs);
          return {
            words: blockWords(block),
            points: block.points.length,
            wanted: wanted.size,
            read: block.count,
            octets,
          };
        }),
    })).filter(({ requests }) => requests.length > 0),
  };
}
