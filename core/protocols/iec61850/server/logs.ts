import type { Instant } from '../../../session/index.ts';
import { AccessError, type Data, type TypeOf } from '../../mms/wire/data.ts';
import type { JournalEntry } from '../../mms/wire/journals.ts';
import { structure } from '../model/types.ts';
import { REASONS, type Reason } from '../report.ts';
import { encodeEntryTime } from '../time.ts';

/*
 * A log and the control block that fills it (IEC 61850-7-2, clause 17.3; carried as a journal after IEC 61850-8-1, 17.3;
 * from memory). An entry has each member that changed, by its name in MMS, and why, by that name with `$ReasonCode`.
 */

export interface LogPlan {
  device: string;
  /** Of the control block, as MMS has it: `LLN0$LG$EventLog`. */
  item: string;
  /** Of the journal: `LLN0$EventLog`. */
  log: string;
  /** As MMS has it: `HLM/LLN0$status`. */
  dataSet: string;
  /** It is filled from the beginning, without anybody asking for it. */
  isEnabled: boolean;
  /** Entries that it keeps. */
  most: number;
}

/** The attributes of a control block, in their order. */
export const LOG_BLOCK: TypeOf = structure(
  ['LogEna', { type: 'boolean' }],
  ['LogRef', { type: 'text', size: -129 }],
  ['DatSet', { type: 'text', size: -129 }],
  ['OldEntrTm', { type: 'binaryTime', days: true }],
  ['NewEntrTm', { type: 'binaryTime', days: true }],
  ['OldEntr', { type: 'octets', size: 8 }],
  ['NewEntr', { type: 'octets', size: 8 }],
  ['TrgOps', { type: 'bits', size: -6 }],
  ['IntgPd', { type: 'unsigned', bits: 32 }],
);
const [DATA_CHANGE, QUALITY_CHANGE] = [1, 2];
const TRIGGERS = 6;

export class LogControl {
  private isEnabled: boolean;
  private triggers: boolean[];
  private counter = 0n;
  readonly entries: JournalEntry[] = [];

  constructor(readonly plan: LogPlan) {
    this.isEnabled = plan.isEnabled;
    this.triggers = Array.from({ length: TRIGGERS }, (_, bit) => bit === DATA_CHANGE || bit === QUALITY_CHANGE);
  }

  takes(trigger: 'dataChange' | 'qualityChange'): boolean {
    return this.isEnabled && this.triggers[trigger === 'dataChange' ? DATA_CHANGE : QUALITY_CHANGE];
  }

  /** `name`: of the member, as MMS has it. */
  add(name: string, value: Data, reason: Reason, now: Instant): void {
    const id = new Uint8Array(8);
    new DataView(id.buffer).setBigUint64(0, ++this.counter);
    const reasons: Data = { type: 'bits', bits: REASONS.map((one) => one === reason) };
    this.entries.push({
      ...{ id, time: encodeEntryTime(now) },
      variables: [
        { tag: name, value },
        { tag: `${name}$ReasonCode`, value: reasons },
      ],
    });
    if (this.entries.length > this.plan.most) this.entries.splice(0, this.entries.length - this.plan.most);
  }

  read(attribute: string): Data | null {
    const text = (value: string): Data => ({ type: 'text', text: value, wide: false });
    const [oldest, newest] = [this.entries[0], this.entries.at(-1)];
    const time = (entry: JournalEntry | undefined): Data => ({
      type: 'binaryTime',
      octets: entry?.time ?? new Uint8Array(6),
    });
    const id = (entry: JournalEntry | undefined): Data => ({ type: 'octets', octets: entry?.id ?? new Uint8Array(8) });
    switch (attribute) {
      case 'LogEna':
        return { type: 'boolean', value: this.isEnabled };
      case 'LogRef':
        return text(`${this.plan.device}/${this.plan.log}`);
      case 'DatSet':
        return text(this.plan.dataSet);
      case 'OldEntrTm':
        return time(oldest);
      case 'NewEntrTm':
        return time(newest);
      case 'OldEntr':
        return id(oldest);
      case 'NewEntr':
        return id(newest);
      case 'TrgOps':
        return { type: 'bits', bits: this.triggers };
      case 'IntgPd':
        return { type: 'unsigned', value: 0 };
      default:
        return null;
    }
  }

  get value(): Data {
    const names = LOG_BLOCK.type === 'structure' ? LOG_BLOCK.components.map(({ name }) => name) : [];
    return { type: 'structure', items: names.flatMap((name) => this.read(name) ?? []) };
  }

  /** With the access error; null: written. */
  write(attribute: string, data: Data): number | null {
    if (attribute === 'LogEna') {
      if (data.type !== 'boolean') return AccessError.typeInconsistent;
      this.isEnabled = data.value;
      return null;
    }
    if (attribute !== 'TrgOps') return this.read(attribute) === null ? AccessError.nonExistent : AccessError.denied;
    if (data.type !== 'bits') return AccessError.typeInconsistent;
    if (this.isEnabled) return AccessError.temporarilyUnavailable;
    this.triggers = Array.from({ length: TRIGGERS }, (_, bit) => data.bits[bit] ?? false);
    return null;
  }
}
