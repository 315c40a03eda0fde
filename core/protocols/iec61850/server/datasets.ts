import { AccessError } from '../../mms/wire/data.ts';
import type { ObjectName } from '../../mms/wire/names.ts';
import type { ServiceError } from '../../mms/wire/pdu.ts';
import type { Variable } from '../../mms/wire/services.ts';
import { referenceOfVariable } from '../model/discovery.ts';
import { toMms, type Reference } from '../model/reference.ts';

/**
 * The data sets of a model: those that it has for good, those that clients have made in a logical device, and those that
 * a client has for its association alone.
 */

const MOST_LISTS = 100;
const MOST_MEMBERS = 1000;

export interface PlannedSet {
  device: string;
  /** Of MMS, `LLN0$status`. */
  name: string;
  members: readonly Reference[];
}

export const domainOf = (reference: Reference): { domain: string; item: string } => {
  const { domain, item } = toMms(reference);
  return { domain, item };
};
export const objectKey = ({ device, node, fc, path }: Reference): string => `${device}/${node} ${fc} ${path[0] ?? ''}`;

export class DataSets {
  /** By their names in MMS, `HLM/LLN0$status`. */
  private sets = new Map<string, { members: readonly Reference[]; deletable: boolean }>();
  /** Which members of which data sets lie in a data object. */
  private index = new Map<string, { set: string; place: number }[]>();
  private readonly own = new Map<number, Map<string, readonly Variable[]>>();

  constructor(private readonly exists: (reference: Reference) => boolean) {}

  /** Takes over those of a model; what clients have made in its logical devices stays where all of it is still there. */
  adopt(planned: readonly PlannedSet[]): void {
    const made = [...this.sets].filter(
      ([name, { deletable, members }]) => (deletable || isOwn(name)) && members.every((one) => this.exists(one)),
    );
    this.sets = new Map(made);
    for (const { device, name, members } of planned) this.sets.set(`${device}/${name}`, { members, deletable: false });
    this.reindex();
  }

  private reindex(): void {
    this.index = new Map();
    for (const [set, { members }] of this.sets)
      members.forEach((reference, place) => {
        const key = objectKey(reference);
        const there = this.index.get(key);
        if (there) there.push({ set, place });
        else this.index.set(key, [{ set, place }]);
      });
  }

  members(set: string): readonly Reference[] | null {
    return this.sets.get(set)?.members ?? null;
  }

  /** Which members lie in a data object. */
  within(object: Reference): readonly { set: string; place: number }[] {
    return this.index.get(objectKey(object)) ?? [];
  }

  came(peer: number): void {
    this.own.set(peer, new Map());
  }
  went(peer: number): void {
    const own = this.own.get(peer);
    this.own.delete(peer);
    if (own === undefined || own.size === 0) return;
    for (const name of own.keys()) this.sets.delete(ownKey(peer, name));
    this.reindex();
  }

  /** By which a set of an association is found among all: two of them may call theirs alike. Null: it has none of that name. */
  keyOfOwn(peer: number, name: string): string | null {
    return this.own.get(peer)?.has(name) ? ownKey(peer, name) : null;
  }

  ofAssociation(peer: number): string[] {
    return [...(this.own.get(peer)?.keys() ?? [])].sort();
  }
  ofDevice(device: string): string[] {
    const prefix = `${device}/`;
    return [...this.sets.keys()]
      .filter((name) => name.startsWith(prefix))
      .map((name) => name.slice(prefix.length))
      .sort();
  }

  list(name: ObjectName, peer: number): { variables: readonly Variable[]; deletable: boolean } | null {
    if (name.scope === 'association') {
      const own = this.own.get(peer)?.get(name.item);
      return own === undefined ? null : { variables: own, deletable: true };
    }
    const set = name.scope === 'domain' ? this.sets.get(`${name.domain}/${name.item}`) : undefined;
    if (set === undefined) return null;
    return {
      variables: set.members.map((one) => ({ name: { scope: 'domain', ...domainOf(one) } })),
      deletable: set.deletable,
    };
  }

  /** Null: it is made. */
  define(name: ObjectName, variables: readonly Variable[], peer: number, hasDevice: boolean): ServiceError | null {
    const refused = (of: number, code: number, words: string): ServiceError => ({ class: of, code, words });
    if (variables.length === 0 || variables.length > MOST_MEMBERS)
      return refused(4, 5, `a data set has 1 to ${MOST_MEMBERS} members, this has ${variables.length}`);
    const members = variables.map(referenceOfVariable);
    if (members.some((one) => one === null || !this.exists(one))) return refused(7, 2, '');
    if (this.list(name, peer) !== null) return refused(2, 5, 'there is one of that name');
    if (name.scope === 'association') {
      const lists = this.own.get(peer);
      if (lists === undefined || lists.size >= MOST_LISTS)
        return refused(3, 0, `${MOST_LISTS} data sets are made already`);
      lists.set(name.item, variables);
      const own = members.flatMap((one) => one ?? []);
      this.sets.set(ownKey(peer, name.item), { members: own, deletable: false });
      this.reindex();
      return null;
    }
    if (name.scope !== 'domain' || !hasDevice) return refused(7, 2, '');
    if ([...this.sets.values()].filter(({ deletable }) => deletable).length >= MOST_LISTS)
      return refused(3, 0, `${MOST_LISTS} data sets are made already`);
    this.sets.set(`${name.domain}/${name.item}`, { members: members.flatMap((one) => one ?? []), deletable: true });
    this.reindex();
    return null;
  }

  delete(name: ObjectName, peer: number, isUsed: (set: string) => boolean): boolean {
    if (name.scope === 'association') {
      const own = ownKey(peer, name.item);
      if (isUsed(own) || !this.own.get(peer)?.delete(name.item)) return false;
      this.sets.delete(own);
      this.reindex();
      return true;
    }
    if (name.scope !== 'domain') return false;
    const key = `${name.domain}/${name.item}`;
    if (!this.sets.get(key)?.deletable || isUsed(key)) return false;
    this.sets.delete(key);
    this.reindex();
    return true;
  }
}
const OWN = '@';
const ownKey = (peer: number, name: string): string => `${OWN}${name}${OWN}${peer}`;
export const isOwn = (key: string): boolean => key.startsWith(OWN);
/** As its client calls it (IEC 61850-8-1, 17.1: a name behind an @ is one of the association; from memory). */
export const shownSet = (key: string): string => (isOwn(key) ? key.slice(0, key.lastIndexOf(OWN)) : key);

export const UNKNOWN = { type: 'failure' as const, code: AccessError.nonExistent };
