import { RowsInSight } from '../../rowsinsight.svelte.ts';

/**
 * Rows drawn beyond the edge that is scrolled to: as many as a fast wheel covers in a slow frame, since a frame shows
 * what was drawn before it. Just after the view changed only a few, more with each frame: a filter that is typed has
 * little to draw.
 */
const AHEAD = { usual: 150, changed: 20, step: 10 };
const GROWS_AFTER_MS = 150;
const BEHIND = 10;

/** Which rows of a long list are drawn, in slots that are used again. To be made while a component is. */
export class GridWindow {
  readonly rows: RowsInSight;
  /** How far ahead a view is drawn by now. */
  private grown = $state.raw<{ view: readonly number[]; rows: number } | null>(null);

  constructor(
    private readonly view: () => readonly number[],
    private readonly total: () => number,
    scroller: () => HTMLElement | undefined,
    heading: () => number,
  ) {
    this.rows = new RowsInSight(scroller, () => view().length, heading);
    $effect(() => {
      const now = this.view();
      let frame = 0;
      const grow = (rows: number): void => {
        this.grown = { view: now, rows };
        if (rows < AHEAD.usual) frame = requestAnimationFrame(() => grow(rows + AHEAD.step));
      };
      const timer = setTimeout(() => grow(AHEAD.changed + AHEAD.step), GROWS_AFTER_MS);
      return () => {
        clearTimeout(timer);
        cancelAnimationFrame(frame);
      };
    });
  }

  private readonly ahead = $derived.by(() => (this.grown?.view === this.view() ? this.grown.rows : AHEAD.changed));
  private readonly visible = $derived.by(() => this.rows.room + 2);
  private readonly drawn = $derived.by(() => this.visible + this.ahead + BEHIND);
  /** The first row that is drawn: changes by whole rows, whatever is scrolled. */
  private readonly first = $derived.by(() => {
    const { first, isUpwards } = this.rows.sight;
    return Math.max(0, Math.min(this.view().length - this.drawn, first - (isUpwards ? this.ahead : BEHIND)));
  });

  /**
   * Which row of the view each slot shows: a row keeps its slot while it is in sight. A slot with nothing to show (-1)
   * is kept, hidden: making rows anew when a filter is taken away would take longer than the filter.
   */
  readonly slots = $derived.by(() => {
    const { first, drawn } = this;
    const count = Math.min(this.visible + AHEAD.usual + BEHIND, this.total());
    const shown = new Array<number>(count).fill(-1);
    for (let i = first; i < Math.min(first + Math.min(drawn, count), this.view().length); i++) shown[i % count] = i;
    return shown;
  });
}
