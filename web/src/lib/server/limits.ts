/** How long a request may be, octets: forms of a few fields are short, lists of 100 000 points are not. */
const FORM = 10_000;
const ORDER = 64_000;
const DOCUMENT = 100_000_000;

const LIMITS: Partial<Record<string, number>> = {
  '/api/draft': DOCUMENT,
  '/api/configuration': DOCUMENT,
  '/api/profiles': 10_000_000,
  // Twenty million characters, of which some take two octets or more.
  '/api/agreement/[code]': 50_000_000,
  '/api/apply': ORDER,
  '/api/revisions': ORDER,
  '/api/probes': ORDER,
  '/api/files': ORDER,
  '/api/commands': ORDER,
  '/api/requests': ORDER,
  '/api/bench/[...path]': 250_000,
};

export const bodyLimit = (routeId: string | null): number => LIMITS[routeId ?? ''] ?? FORM;

/** Something costly that one person may have done so often side by side. */
export class PerPerson {
  private readonly running = new Map<string, number>();

  constructor(private readonly most: number) {}

  /** Runs the work; null when that person has enough of it under way. */
  async run<Result>(person: string, work: () => Promise<Result>): Promise<Result | null> {
    const count = this.running.get(person) ?? 0;
    if (count >= this.most) return null;
    this.running.set(person, count + 1);
    try {
      return await work();
    } finally {
      const left = (this.running.get(person) ?? 1) - 1;
      if (left > 0) this.running.set(person, left);
      else this.running.delete(person);
    }
  }
}
