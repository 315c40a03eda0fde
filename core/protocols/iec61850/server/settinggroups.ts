import type { Instant } from '../../../session/index.ts';
import { AccessError, type Data, type TypeOf } from '../../mms/wire/data.ts';
import type { Reference } from '../model/reference.ts';
import { structure } from '../model/types.ts';
import { encodeStamp } from '../time.ts';
import { setCell, valueOf, type Cell, type Tree } from './tree.ts';

/*
 * The setting groups of one logical device (IEC 61850-7-2, clause 16; their control block after IEC 61850-8-1, 16; from
 * memory): values with the constraint SG are those that work, values with SE those that are being edited.
 *
 * edited   what happens                              becomes   and then
 * -------  ----------------------------------------  --------  -----------------------------------------------------
 * none     EditSG n is written                       n         SE shows the values of group n, to this client alone
 * n        SE is written, by the same client         n
 * n        CnfEdit is written, by it                 none      group n has what SE has; if it works, SG has it too
 * n        EditSG 0 by it, it goes, its time passes  none      nothing of it is kept
 * any      ActSG m is written                                  SG shows the values of group m
 */

/** The attributes of a control block, in their order. */
export const GROUP_BLOCK: TypeOf = structure(
  ['NumOfSG', { type: 'unsigned', bits: 8 }],
  ['ActSG', { type: 'unsigned', bits: 8 }],
  ['EditSG', { type: 'unsigned', bits: 8 }],
  ['CnfEdit', { type: 'boolean' }],
  ['LActTm', { type: 'utcTime' }],
  ['ResvTms', { type: 'unsigned', bits: 16 }],
);

export interface GroupPlan {
  device: string;
  count: number;
  active: number;
  /** How long a client may edit without a word, milliseconds. */
  editMs: number;
  /** Where groups differ, by references with SG. */
  values?: readonly { group: number; reference: Reference; data: Data }[];
}

const CLOCK = { leapSecondsKnown: true, clockFailure: false, notSynchronised: false, accuracyBits: 10 };

export class SettingGroups {
  private active: number;
  private edited = 0;
  private editor: number | null = null;
  private until: Instant = Infinity;
  /** Values of each group, by the names that places have in MMS behind the constraint: `PTOC1$StrVal`. */
  private readonly groups: Map<string, Data>[];

  constructor(
    private readonly plan: GroupPlan,
    private readonly tree: Tree,
    now: Instant,
  ) {
    this.active = Math.min(Math.max(1, plan.active), plan.count);
    this.groups = Array.from({ length: plan.count }, (_, at) => {
      for (const { group, reference, data } of plan.values ?? []) if (group === at + 1) tree.set(reference, data);
      return new Map([...this.cells('SG')].map(([name, cell]) => [name, valueOf(cell)] as const));
    });
    this.fill('SG', this.active);
    this.show(now);
  }

  get deadline(): Instant {
    return this.until;
  }

  wake(now: Instant): void {
    if (now >= this.until) this.release();
  }

  left(peer: number): void {
    if (this.editor === peer) this.release();
  }

  /** Data objects of that constraint in the device. */
  private *cells(fc: 'SG' | 'SE'): Generator<[name: string, cell: Cell]> {
    for (const [node, cell] of this.tree.nodesOf(this.plan.device))
      for (const [object, inside] of cell.parts?.get(fc)?.parts ?? []) yield [`${node}$${object}`, inside];
  }

  private fill(fc: 'SG' | 'SE', group: number): void {
    const values = this.groups[group - 1];
    for (const [name, cell] of this.cells(fc)) {
      const value = values?.get(name);
      if (value !== undefined) setCell(cell, value);
    }
  }

  private place(attribute: string): Reference {
    return { device: this.plan.device, node: 'LLN0', fc: 'SP', path: ['SGCB', attribute] };
  }
  private put(attribute: string, data: Data): void {
    this.tree.set(this.place(attribute), data);
  }

  private show(now: Instant | null): void {
    const number = (value: number): Data => ({ type: 'unsigned', value });
    this.put('NumOfSG', number(this.plan.count));
    this.put('ActSG', number(this.active));
    this.put('EditSG', number(this.edited));
    this.put('CnfEdit', { type: 'boolean', value: false });
    this.put('ResvTms', number(Math.round(this.plan.editMs / 1000)));
    if (now !== null) this.put('LActTm', { type: 'utcTime', octets: encodeStamp({ time: now, ...CLOCK }) });
  }

  private release(): void {
    [this.edited, this.editor, this.until] = [0, null, Infinity];
    this.show(null);
  }

  /** Of the control block. With the access error; null: done. */
  write(attribute: string, data: Data, peer: number, now: Instant): number | null {
    const number = data.type === 'unsigned' || data.type === 'integer' ? Number(data.value) : NaN;
    switch (attribute) {
      case 'ActSG':
        if (Number.isNaN(number)) return AccessError.typeInconsistent;
        if (number < 1 || number > this.plan.count) return AccessError.valueInvalid;
        this.active = number;
        this.fill('SG', number);
        this.show(now);
        return null;
      case 'EditSG':
        if (Number.isNaN(number)) return AccessError.typeInconsistent;
        if (number < 0 || number > this.plan.count) return AccessError.valueInvalid;
        if (this.editor !== null && this.editor !== peer) return AccessError.temporarilyUnavailable;
        if (number === 0) {
          this.release();
          return null;
        }
        [this.edited, this.editor, this.until] = [number, peer, now + this.plan.editMs];
        this.fill('SE', number);
        this.show(null);
        return null;
      case 'CnfEdit':
        if (data.type !== 'boolean') return AccessError.typeInconsistent;
        if (this.editor !== peer || !data.value) return AccessError.temporarilyUnavailable;
        for (const [name, cell] of this.cells('SE')) this.groups[this.edited - 1].set(name, valueOf(cell));
        if (this.edited === this.active) this.fill('SG', this.active);
        this.release();
        return null;
      default:
        return AccessError.denied;
    }
  }

  /** What is edited is for the one who edits it. */
  mayRead(peer: number): boolean {
    return this.editor === peer;
  }

  /** Of a value with SE. */
  edit(reference: Reference, data: Data, peer: number, now: Instant): number | null {
    if (this.editor !== peer) return AccessError.temporarilyUnavailable;
    const cell = this.tree.atReference(reference);
    if (cell === null) return AccessError.nonExistent;
    if (!fits(cell, data)) return AccessError.typeInconsistent;
    setCell(cell, data);
    this.until = now + this.plan.editMs;
    return null;
  }

  /** What was edited and switched before the model was made anew. */
  adopt(before: SettingGroups, now: Instant): void {
    if (before.groups.length !== this.groups.length) return;
    before.groups.forEach((values, at) => {
      for (const [name, value] of values) if (this.groups[at].has(name)) this.groups[at].set(name, value);
    });
    this.active = before.active;
    this.fill('SG', this.active);
    this.show(now);
  }
}

/** Whether a value is of the type of a place. */
export function fits(cell: Cell, data: Data): boolean {
  const inside = cell.parts !== null ? [...cell.parts.values()] : cell.elements;
  if (inside === null) return cell.data.type === data.type;
  return (
    (data.type === 'structure' || data.type === 'array') &&
    data.items.length === inside.length &&
    inside.every((one, at) => fits(one, data.items[at]))
  );
}
