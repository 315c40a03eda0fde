import { sameDocument } from '@halvix/core/config';
import type { Change, Held } from './draft.svelte.ts';

/** Changes of objects that go together, with what undoing them brings back. */
export class Changes {
  readonly list: Change[] = [];
  readonly before: unknown[] = [];

  /** The object becomes that document: a new one without it, deleted by null; what is as it was is left out. */
  put(
    kind: Change['kind'],
    one: Pick<Held, 'id' | 'version' | 'document'> | undefined,
    document: unknown,
    parent = '',
  ): void {
    if (one && sameDocument(one.document, document)) return;
    this.list.push({ id: one?.id ?? null, kind, parent, expected: one?.version ?? null, document });
    this.before.push(one?.document ?? null);
  }
}
