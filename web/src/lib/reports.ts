/** A message that told values, as it is marked to be compared. */
export interface Marked {
  key: string;
  time: number;
  words: string;
  values: readonly (readonly [name: string, value: string])[];
}

export interface ComparedRow {
  name: string;
  /** Of each marked message; null: it is not in that one. */
  values: (string | null)[];
  /** Which of them are other than what was said before, by their places. */
  changed: number[];
}

/** Marked messages side by side, the oldest first: a row for each name that any of them has. */
export function compared(marked: readonly Marked[]): { messages: Marked[]; rows: ComparedRow[] } {
  const messages = [...marked].sort((a, b) => a.time - b.time || Number(a.key) - Number(b.key));
  const names = [...new Set(messages.flatMap(({ values }) => values.map(([name]) => name)))];
  const maps = messages.map(({ values }) => new Map(values));
  const rows = names.map((name) => {
    const values = maps.map((map) => map.get(name) ?? null);
    let known: string | null = null;
    const changed: number[] = [];
    values.forEach((value, at) => {
      if (value === null) return;
      if (known !== null && value !== known) changed.push(at);
      known = value;
    });
    return { name, values, changed };
  });
  return { messages, rows };
}
