import type { DraftPoint, MappingConfig, ObjectKind } from '@halvix/core/config';
import { addressOf, pointsOf } from '@halvix/core/protocols';
import type { ChangedObject, DraftObject, Written } from './draftobject.ts';

type Coded = { code?: string };

/**
 * What changes along: the code of a station, link, device or outbound where others name it; the points and mappings
 * of what was deleted; the mappings of a point whose address moved.
 */
export async function changesAlong(
  changed: readonly ChangedObject[],
  objectsOf: (kinds: readonly ObjectKind[]) => Promise<DraftObject[]>,
): Promise<(Written & { before: unknown })[]> {
  const renamed = new Map<string, string | null>();
  /** Where each point went, by device and address before; null: it is gone, empty: it has no address any more. */
  const moved = new Map<string, string | null>();
  for (const { kind, parent, before, document } of changed) {
    if (before === null) continue;
    if (kind === 'point') {
      const old = addressOf(before as DraftPoint);
      const next = document === null ? null : addressOf(document as DraftPoint);
      if (old !== '' && next !== old) moved.set(`${parent} ${old}`, next);
    } else if (kind === 'station' || kind === 'link' || kind === 'device' || kind === 'outbound') {
      const [old, next] = [(before as Coded).code ?? '', (document as Coded | null)?.code ?? null];
      if (old !== next) renamed.set(`${kind} ${old}`, next);
    }
  }
  if (renamed.size === 0 && moved.size === 0) return [];
  const done = new Set(changed.map(({ id }) => id));
  const updates: (Written & { before: unknown })[] = [];
  const touchesPoints = [...renamed.keys()].some((key) => key.startsWith('device ') || key.startsWith('outbound '));
  const kinds: ObjectKind[] = [
    'device',
    'radio',
    'outbound',
    'mapping',
    ...(touchesPoints || moved.size > 0 ? (['point'] as const) : []),
  ];
  const objects = await objectsOf(kinds);
  // Points whose address names what is called otherwise now: who names them has to follow in turn.
  for (const { id, kind, parent, document } of objects)
    if (kind === 'point' && !done.has(id)) {
      const next = withNamesFollowed(document as DraftPoint, renamed, moved);
      if (next !== null) moved.set(`${parent} ${addressOf(document as DraftPoint)}`, addressOf(next));
    }
  for (const object of objects) {
    if (done.has(object.id)) continue;
    const next = followed(object, renamed, moved);
    if (next !== null) updates.push({ ...next, before: object.document });
  }
  return updates;
}

/** A point whose feedback or trigger moved, with the reference to where it is now; null when none of them did. */
function withMovedReferences(
  point: DraftPoint,
  device: string,
  moved: ReadonlyMap<string, string | null>,
): DraftPoint | null {
  // Of one that was deleted, or has no address any more, the reference stays: the check names it.
  const now = (address: string | null | undefined): string | null =>
    (address == null ? null : moved.get(`${device} ${address}`)) || null;
  const { control, setting, history } = point;
  const follower = now(control?.feedback?.point);
  const set = now(setting?.feedback);
  const trigger = history.mode === 'trigger' ? now(history.point) : null;
  if (follower === null && set === null && trigger === null) return null;
  return {
    ...point,
    ...(control?.feedback &&
      follower && { control: { ...control, feedback: { ...control.feedback, point: follower } } }),
    ...(setting && set && { setting: { ...setting, feedback: set } }),
    ...(trigger && { history: { mode: 'trigger' as const, point: trigger } }),
  };
}

/** A point whose address names others, as it is with what they are called now; null when that is as before. */
function withNamesFollowed(
  point: DraftPoint,
  renamed: ReadonlyMap<string, string | null>,
  moved: ReadonlyMap<string, string | null>,
): DraftPoint | null {
  const { names } = pointsOf(point.at.protocol);
  const named = names?.of(point.at) ?? null;
  if (names === undefined || named === null) return null;
  // Of what was deleted the name stays: the check says that it is not there.
  const code = renamed.get(`${named.kind} ${named.code}`) ?? named.code;
  const at = named.point === null ? null : moved.get(`${named.code} ${named.point}`) || named.point;
  if (code === named.code && at === named.point) return null;
  return { ...point, at: names.renamed(point.at, { ...named, code, point: at }) };
}

/** An object as it has to become; null when nothing of it changes. */
function followed(
  { id, kind, parent, document }: DraftObject,
  renamed: ReadonlyMap<string, string | null>,
  moved: ReadonlyMap<string, string | null>,
): Written | null {
  const owner = renamed.get(`${kind === 'point' ? 'device' : 'outbound'} ${parent}`);
  if (kind === 'point' || kind === 'mapping') {
    if (owner === null) return { id, kind, parent, document: null };
    if (kind === 'point') {
      const named = withNamesFollowed(document as DraftPoint, renamed, moved);
      const referring = withMovedReferences(named ?? (document as DraftPoint), parent, moved) ?? named;
      if (owner === undefined && referring === null) return null;
      return { id, kind, parent: owner ?? parent, document: referring ?? document };
    }
    const mapping = document as MappingConfig;
    const device = renamed.get(`device ${mapping.device}`);
    const point = moved.get(`${mapping.device} ${mapping.point}`);
    if (device === null || point === null || point === '') return { id, kind, parent, document: null };
    if (device === undefined && point === undefined && owner === undefined) return null;
    return {
      id,
      kind,
      parent: owner ?? parent,
      document: {
        ...mapping,
        device: device ?? mapping.device,
        point: point ?? mapping.point,
      },
    };
  }
  const named = document as { station?: string; link?: string; partner?: string; alsoPartners?: string[] };
  const station = named.station === undefined ? undefined : renamed.get(`station ${named.station}`);
  const link = named.link === undefined ? undefined : renamed.get(`link ${named.link}`);
  // A station or link that was deleted stays named: the check says that it is not there.
  const nowOf = (device: string): string => renamed.get(`device ${device}`) ?? device;
  const { partner = '', alsoPartners = [] } = named;
  const also = alsoPartners.map(nowOf);
  const isOther = nowOf(partner) !== partner || also.some((one, at) => one !== alsoPartners[at]);
  if (!station && !link && !isOther) return null;
  const next = {
    ...named,
    ...(station ? { station } : {}),
    ...(link ? { link } : {}),
    ...(isOther ? { partner: nowOf(partner), alsoPartners: also } : {}),
  };
  return { id, kind, parent, document: next };
}
