import { elementScroll, observeElementOffset, observeElementRect, Virtualizer } from '@tanstack/virtual-core';
import { untrack } from 'svelte';

/** Of a row, pixels. */
export const ROW = 30;

interface Sight {
  /** The first row that is seen. */
  first: number;
  /** Behind the last one. */
  end: number;
  /** It was scrolled towards the first row last. */
  isUpwards: boolean;
}

/** Which rows of a long list are seen in an element that scrolls, under a heading that stays. To be made while a component is. */
export class RowsInSight {
  private readonly rows: Virtualizer<HTMLElement, HTMLElement>;
  sight = $state.raw<Sight>({ first: 0, end: 0, isUpwards: false });
  /** How many there is room for. */
  room = $state(0);

  /** `scroller`: the element; `count`: of rows; `heading`: its height, pixels. */
  constructor(scroller: () => HTMLElement | undefined, count: () => number, heading: () => number) {
    const options = (): ConstructorParameters<typeof Virtualizer<HTMLElement, HTMLElement>>[0] => ({
      ...{ count: count(), estimateSize: () => ROW, overscan: 0 },
      ...{ scrollMargin: heading(), scrollPaddingStart: heading() },
      getScrollElement: () => scroller() ?? null,
      ...{ scrollToFn: elementScroll, observeElementRect, observeElementOffset },
      // Before the element is there.
      initialRect: { width: 0, height: 600 },
      onChange: () => this.look(),
    });
    this.rows = new Virtualizer(untrack(options));
    this.look();
    $effect(() => {
      this.rows.setOptions(options());
      this.rows._willUpdate();
      untrack(() => this.look());
    });
    $effect(() => this.rows._didMount());
  }

  private look(): void {
    const range = this.rows.calculateRange();
    const { sight } = this;
    // Where it stands still it goes on as before: it is likely to be scrolled that way again.
    const way = this.rows.scrollDirection;
    const isUpwards = way === null ? sight.isUpwards : way === 'backward';
    const [first, end] = range === null ? [0, 0] : [range.startIndex, range.endIndex + 1];
    if (sight.first !== first || sight.end !== end || sight.isUpwards !== isUpwards)
      this.sight = { first, end, isUpwards };
    const height = this.rows.scrollRect?.height ?? 0;
    this.room = Math.floor(Math.max(0, height - this.rows.options.scrollMargin) / ROW);
  }

  /** Scrolls as little as shows the row. */
  reveal(index: number): void {
    this.rows.scrollToIndex(index, { align: 'auto' });
  }
}
