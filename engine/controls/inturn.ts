/** Work of which everything under one name is done one after the other, in the order in which it was asked for. */
export class InTurn {
  private readonly last = new Map<string, Promise<unknown>>();

  /** A place in the line of that name: the work that is given to it begins when everything before it there is over. */
  place(name: string): <Result>(work: () => Promise<Result>) => Promise<Result> {
    const before = this.last.get(name) ?? Promise.resolve();
    let leave = (): void => {};
    const over = new Promise<void>((resolve) => (leave = resolve));
    this.last.set(name, over);
    return async (work) => {
      await before;
      try {
        return await work();
      } finally {
        if (this.last.get(name) === over) this.last.delete(name);
        leave();
      }
    };
  }
}
