/** So many of one address at a time, and of all together. */
const [MOST_EACH, MOST] = [128, 512];

/**
 * Those who are connected and have not shown yet who they are: half-open connections, TLS that is being agreed on, callers
 * that say nothing. They have places of their own, so that whoever is known keeps his; when there are too many, one of the
 * address that has the most goes, the oldest first.
 */
export class Strangers<One extends { address: string }> {
  /** In the order in which they came. */
  private readonly places = new Map<string, Set<One>>();
  private count = 0;

  constructor(
    private readonly mostEach = MOST_EACH,
    private readonly most = MOST,
  ) {}

  get size(): number {
    return this.count;
  }

  /** Returns whoever has to go for it; null: there is room. */
  add(one: One): One | null {
    const place = this.places.get(one.address) ?? new Set<One>();
    this.places.set(one.address, place);
    place.add(one);
    this.count++;
    if (place.size > this.mostEach) return oldest(place);
    if (this.count <= this.most) return null;
    let fullest = place;
    for (const other of this.places.values()) if (other.size > fullest.size) fullest = other;
    return oldest(fullest);
  }

  /** It is known now, or gone. */
  remove(one: One): void {
    const place = this.places.get(one.address);
    if (!place?.delete(one)) return;
    this.count--;
    if (place.size === 0) this.places.delete(one.address);
  }
}

const oldest = <One>(place: Set<One>): One | null => place.values().next().value ?? null;
