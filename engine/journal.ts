import type { NewJournalEntry } from '@halvix/db';
import { clock } from '@halvix/wire';

const MAX_WAITING = 500;
const CHANGES_PER_SECOND = 5;

/** What happened, for people; written with the next publication. Floods of state changes are summed up. */
export class Journal {
  private waiting: NewJournalEntry[] = [];
  private second = 0;
  private changes = 0;
  private leftOut = 0;
  onChange: () => void = () => {};

  note(subject: string, tone: NewJournalEntry['tone'], words: string, time = clock.now()): void {
    if (this.waiting.length >= MAX_WAITING) return;
    this.waiting.push({ subject, tone, words, time });
    this.onChange();
  }

  /** A change of state of a point; only some of many in one second are kept. */
  noteChange(subject: string, words: string, time: number): void {
    const second = Math.floor(clock.now() / 1000);
    if (second !== this.second) {
      if (this.leftOut > 0) this.note(subject, 'plain', `and ${this.leftOut} more changes of state in that second`);
      this.second = second;
      this.changes = 0;
      this.leftOut = 0;
    }
    if (this.changes++ < CHANGES_PER_SECOND) this.note(subject, 'plain', words, time);
    else this.leftOut++;
  }

  take(): NewJournalEntry[] {
    return this.waiting.splice(0);
  }

  giveBack(entries: NewJournalEntry[]): void {
    this.waiting = [...entries, ...this.waiting].slice(0, MAX_WAITING);
  }
}
