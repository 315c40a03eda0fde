import { sameDocument, valueAt, withSecrets } from '@halvix/core/config';
import { untrack } from 'svelte';
import { draft, type Held } from './draft.svelte.ts';

interface Form<Document> {
  /** The object as the draft holds it now. */
  held: () => Held<Document> | undefined;
  /** What stands in the form. */
  typed: () => Document;
  /** Fills the form. */
  show: (document: Document) => void;
}

/**
 * An object that a form edits while others may change it: the form follows as long as nothing is typed into it. What is
 * typed stays, and is saved with the version that was seen, so that what somebody else wrote is not overwritten unseen.
 * To be made while a component is.
 */
export class Followed<Document> {
  /** What the form was filled from. */
  base = $state.raw<Held<Document>>();
  /** Who changed it meanwhile, while something else is typed here. */
  by = $state<string | null>(null);

  constructor(private readonly form: Form<Document>) {
    this.base = untrack(form.held);
    $effect(() => {
      const now = form.held();
      untrack(() => this.meet(now));
    });
    $effect(() =>
      draft.onYield((ids) => {
        if (this.base && ids.has(this.base.id)) this.adopt();
      }),
    );
  }

  /** Shows what the draft holds; what was typed is gone. */
  adopt(): void {
    this.base = untrack(this.form.held);
    this.by = null;
    if (this.base) this.form.show(this.base.document);
  }

  private meet(now: Held<Document> | undefined): void {
    const { base } = this;
    if (now === undefined || (now.id === base?.id && now.version === base.version)) return;
    const typed = this.form.typed();
    const untouched =
      base === undefined || sameDocument(typed, base.document) || sameDocument(asKept(typed, now), now.document);
    if (now.id !== base?.id || untouched) this.adopt();
    else this.by = now.author;
  }
}

/** What was typed and saved here, with its secrets as they are kept. */
const asKept = <Document>(typed: Document, { kind, author, document }: Held<Document>): Document =>
  author === draft.me ? withSecrets(kind, typed, ({ field }) => String(valueAt(document, field.path))) : typed;
