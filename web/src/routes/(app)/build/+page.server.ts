import { GROUPS } from '@halvix/core/dnp3';
import { addressWords, kindRank } from '@halvix/core/point';
import { model } from '$lib/server/model.ts';
import type { PageServerLoad } from './$types';

export interface MappingRow {
  id: number;
  outbound: string;
  device: string;
  source: string;
  sourceRank: number;
  name: string;
  target: string;
  targetRank: number;
  objects: string;
  eventClass: number;
  control: boolean;
}

const rankOf = (kind: Parameters<typeof kindRank>[0], index: number): number => kindRank(kind) * 100_000 + index;

export const load: PageServerLoad = async () => {
  const { configuration, points, revision } = await model();
  const byAddress = new Map(
    [...points.values()].map((point) => [`${point.device.code} ${point.config.kind} ${point.config.index}`, point]),
  );
  const rows: MappingRow[] = configuration.outbounds.flatMap((outbound) =>
    outbound.mappings.flatMap(({ device, kind, index, target }) => {
      const point = byAddress.get(`${device} ${kind} ${index}`);
      if (point === undefined) return [];
      const { static: fixed, event } = GROUPS[target.kind];
      return {
        id: point.id,
        outbound: outbound.code,
        device,
        source: addressWords(kind, index),
        sourceRank: rankOf(kind, index),
        name: point.config.name,
        target: addressWords(target.kind, target.index),
        targetRank: rankOf(target.kind, target.index),
        objects: `g${fixed}v${target.staticVariation}${event && target.eventClass > 0 ? `, events g${event}v${target.eventVariation}` : ''}`,
        eventClass: target.eventClass,
        control: target.kind === 'output',
      };
    }),
  );
  return { rows, total: points.size, revision };
};
