/** What a session counts, since when. */
export class Counters<Name extends string> {
  readonly values: Record<Name, number>;

  constructor(
    names: readonly Name[],
    public since: number,
  ) {
    this.values = Object.fromEntries(names.map((name) => [name, 0])) as Record<Name, number>;
  }

  add(name: Name, count = 1): void {
    this.values[name] += count;
  }

  reset(now: number): void {
    for (const name of Object.keys(this.values) as Name[]) this.values[name] = 0;
    this.since = now;
  }
}
