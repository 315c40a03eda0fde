import { browser } from '$app/environment';
import {
  expanded,
  type DeviceObject,
  type ObjectDocument,
  type ObjectKind,
  type OutboundObject,
} from '@halvix/core/config';
import { messageOf, post } from '../ask.ts';
import { keepSteps, keptSteps, type Step } from './undo.ts';

export interface Held<Document = unknown> {
  id: number;
  kind: ObjectKind;
  parent: string;
  version: number;
  author: string;
  changed: number;
  document: Document;
}

export interface Change {
  id: number | null;
  kind: ObjectKind;
  parent: string;
  expected: number | null;
  document: unknown;
}

export interface Conflict {
  id: number;
  kind: ObjectKind;
  parent: string;
  version: number | null;
  author: string;
  changed: number;
  document: unknown;
}

export type Outcome =
  { ok: true; version: number; ids: number[] } | { ok: false; words: string; conflicts: Conflict[] };

interface Answer {
  version: number;
  changed: { id: number; kind: ObjectKind; parent: string; along: boolean; before?: unknown; document?: unknown }[];
}

export type Listener = (objects: readonly Held<unknown>[]) => void;
const MAX_STEPS = 100;
/** Rows in one request: the server takes no more. */
export const MAX_CHANGES = 100_000;

/**
 * The draft as this page knows it: the few objects of everything but points and mappings, the version, and what can be
 * undone. Every change goes to the server with the version that was seen; when somebody was faster nothing is changed
 * and both are shown.
 */
class Draft {
  version = $state(0);
  objects = $state.raw<Held[]>([]);
  /** What somebody else changed last. */
  other = $state<{ author: string; at: number } | null>(null);
  conflicts = $state.raw<{ conflicts: Conflict[]; changes: Change[]; label: string } | null>(null);
  saving = $state(0);
  done = $state.raw<readonly Step[]>([]);
  undone = $state.raw<readonly Step[]>([]);
  /** Versions of points and mappings, which a list elsewhere holds: known here for undoing. */
  private readonly versions = new Map<number, number>();
  /** Versions that our own writes made. */
  readonly own = new Map<number, number>();
  private readonly listeners = new Set<Listener>();
  private readonly yielding = new Set<(ids: ReadonlySet<number>) => void>();
  private queue: Promise<unknown> = Promise.resolve();
  me = '';

  readonly canUndo = $derived(this.done.at(-1)?.label ?? null);
  readonly canRedo = $derived(this.undone.at(-1)?.label ?? null);

  /** Takes what a page's load brought. */
  seed(version: number, objects: readonly Held[], me: string): void {
    if (browser && this.me !== me) this.remember(me);
    this.me = me;
    if (version < this.version) return;
    this.version = version;
    this.objects = [...objects];
    for (const { id, version: own } of objects) this.versions.set(id, own);
  }

  /** What could be undone before the page was loaded anew. */
  private remember(me: string): void {
    const kept = keptSteps(sessionStorage, me);
    this.done = kept?.done ?? [];
    this.undone = kept?.undone ?? [];
    this.own.clear();
    for (const [id, version] of kept?.own ?? []) this.own.set(id, version);
  }

  private keep(): void {
    keepSteps(sessionStorage, this.me, this);
  }

  of<Kind extends ObjectKind>(kind: Kind): Held<ObjectDocument<Kind>>[] {
    return this.objects.filter((object) => object.kind === kind) as Held<ObjectDocument<Kind>>[];
  }

  device(code: string): Held<DeviceObject> | undefined {
    return this.of('device').find(({ document }) => document.code === code);
  }

  outbound(code: string): Held<OutboundObject> | undefined {
    return this.of('outbound').find(({ document }) => document.code === code);
  }

  /** A list elsewhere hears of every change of points and mappings, its own too. */
  listen(listener: Listener): () => void {
    this.listeners.add(listener);
    return () => this.listeners.delete(listener);
  }

  noteVersions(rows: Iterable<{ id: number; version: number }>): void {
    for (const { id, version } of rows) this.versions.set(id, version);
  }

  /**
   * Changes objects, all or none. `before` are the documents that undoing brings back. What is changed shows at once, so
   * that the next change builds on it, and goes back to what it was when the server refuses.
   */
  async change(label: string, changes: readonly Change[], before: readonly unknown[]): Promise<Outcome> {
    const shown = (documentOf: (at: number) => unknown): Held[] =>
      changes.flatMap(({ id, kind, parent, expected }, at) =>
        id === null
          ? []
          : [
              {
                id,
                kind,
                parent,
                // What was seen: should somebody else have been faster, this is not yet known to be over theirs.
                version: expected ?? 0,
                author: this.me,
                changed: Date.now(),
                document: documentOf(at),
              },
            ],
      );
    this.display(shown((at) => changes[at].document));
    const outcome = await this.inLine(() => this.send(label, changes, before));
    if (outcome.ok) {
      this.undone = [];
      this.keep();
    } else {
      const theirs = new Map(outcome.conflicts.map((one) => [one.id, one]));
      this.display(
        shown((at) => before[at] ?? null).map((one) => {
          const now = theirs.get(one.id);
          return now ? { ...one, ...now, version: now.version ?? one.version } : one;
        }),
      );
    }
    return outcome;
  }

  /** One request after the other: each builds on the versions that the one before made. */
  private inLine<Result>(job: () => Promise<Result>): Promise<Result> {
    const result = this.queue.then(job);
    this.queue = result.catch(() => {});
    return result;
  }

  /** The version to expect: that of our own last write, unless somebody else wrote since. */
  private expectedOf({ id, expected }: Change): number | null {
    if (id === null) return null;
    const own = this.own.get(id);
    return own !== undefined && own === this.versions.get(id) && own > (expected ?? 0) ? own : expected;
  }

  private async send(
    label: string,
    changes: readonly Change[],
    before: readonly unknown[],
    intoUndone = false,
  ): Promise<Outcome> {
    if (changes.length === 0) return { ok: true, version: this.version, ids: [] };
    if (changes.length > MAX_CHANGES)
      return { ok: false, words: `${changes.length} rows at once; at most ${MAX_CHANGES}`, conflicts: [] };
    this.saving++;
    const sent = changes.map((one) => ({ ...one, expected: this.expectedOf(one) }));
    const answer = await post('/api/draft', { changes: sent }).catch(() => null);
    this.saving--;
    if (answer === null)
      return { ok: false, words: 'The server cannot be reached. Nothing was changed; try again.', conflicts: [] };
    if (answer.status === 409) {
      const { conflicts } = (await answer.json()) as { conflicts: Conflict[] };
      for (const { id, version } of conflicts) if (version !== null) this.versions.set(id, version);
      this.conflicts = { conflicts, changes: [...changes], label };
      return { ok: false, words: 'Somebody else changed this meanwhile.', conflicts };
    }
    if (!answer.ok) return { ok: false, words: await messageOf(answer), conflicts: [] };
    const { version, changed } = (await answer.json()) as Answer;
    const objects: Step['objects'] = [];
    const held: Held[] = changed.map(({ id, kind, parent, along, before: was, document }, at) => {
      const after = along || document !== undefined ? document : changes[at].document;
      objects.push({ id, kind, parent, before: along ? was : (before[at] ?? null), after });
      this.own.set(id, version);
      return { id, kind, parent, version, author: this.me, changed: Date.now(), document: after };
    });
    this.take(version, held);
    const step = { label, objects };
    // What was undone keeps its direction: redoing goes from before to after again.
    const forwards = objects.map((one) => ({ ...one, before: one.after, after: one.before }));
    if (intoUndone) this.undone = [...this.undone, { label, objects: forwards }];
    else this.done = [...this.done, step].slice(-MAX_STEPS);
    return { ok: true, version, ids: held.slice(0, changes.length).map(({ id }) => id) };
  }

  /** Takes over changed objects, from here or from elsewhere. */
  private take(version: number, changed: readonly Held[]): void {
    for (const { id, version: own } of changed) this.versions.set(id, own);
    this.display(changed);
    this.version = Math.max(this.version, version);
  }

  private display(changed: readonly Held[]): void {
    const small = changed.filter(({ kind }) => kind !== 'point' && kind !== 'mapping');
    if (small.length > 0) {
      const ids = new Set(small.map(({ id }) => id));
      this.objects = [
        ...this.objects.filter(({ id }) => !ids.has(id)),
        ...small.filter(({ document }) => document !== null),
      ];
    }
    if (changed.length > 0) for (const listener of this.listeners) listener(changed);
  }

  undo(): Promise<string | null> {
    return this.inLine(async () => {
      const step = this.done.at(-1);
      if (!step) return null;
      const outcome = await this.turn(step, true);
      if (!outcome.ok) return outcome.words;
      this.done = this.done.slice(0, -1);
      this.keep();
      return null;
    });
  }

  redo(): Promise<string | null> {
    return this.inLine(async () => {
      const step = this.undone.at(-1);
      if (!step) return null;
      const outcome = await this.turn(step, false);
      if (!outcome.ok) return outcome.words;
      this.undone = this.undone.slice(0, -1);
      this.keep();
      return null;
    });
  }

  private turn({ label, objects }: Step, back: boolean): Promise<Outcome> {
    const changes = objects.map(({ id, kind, parent, before, after }) => ({
      id,
      kind,
      parent,
      // Our own write, so that what somebody else wrote since is not overwritten unseen.
      expected: this.own.get(id) ?? this.versions.get(id) ?? null,
      document: back ? before : after,
    }));
    return this.send(
      label,
      changes,
      objects.map(({ before, after }) => (back ? after : before)),
      back,
    );
  }

  /** Sends the changes that met a conflict again, over what the others did: what was shown of it, nothing newer. */
  async insist(): Promise<Outcome | null> {
    const held = this.conflicts;
    if (held === null) return null;
    this.conflicts = null;
    await this.catchUp();
    const versions = new Map(held.conflicts.map(({ id, version }) => [id, version]));
    const changes = held.changes.map((one) =>
      one.id !== null && versions.has(one.id) ? { ...one, expected: versions.get(one.id) ?? null } : one,
    );
    return this.change(
      held.label,
      changes,
      held.changes.map(({ id }) => held.conflicts.find((one) => one.id === id)?.document ?? null),
    );
  }

  /** Hears which objects were left as somebody else wrote them: a form lets go of what was typed for them. */
  onYield(listener: (ids: ReadonlySet<number>) => void): () => void {
    this.yielding.add(listener);
    return () => this.yielding.delete(listener);
  }

  /** Leaves what met a conflict as the others wrote it. */
  async yieldTo(): Promise<void> {
    const ids = new Set(this.conflicts?.conflicts.map(({ id }) => id));
    this.conflicts = null;
    await this.catchUp();
    for (const listener of this.yielding) listener(ids);
  }

  /** Fetches what others changed since the version known here. */
  async catchUp(): Promise<void> {
    if (!browser) return;
    const answer = await fetch(`/api/draft?after=${this.version}`).catch(() => null);
    if (!answer?.ok) return;
    const { version, objects } = (await answer.json()) as { version: number; objects: Held[] };
    const held = objects.map((object) => ({ ...object, document: expanded(object.kind, object.document) }));
    const others = held.filter(({ author }) => author !== this.me);
    if (others.length > 0) this.other = { author: others[others.length - 1].author, at: Date.now() };
    this.take(version, held);
  }
}

export const draft = new Draft();
