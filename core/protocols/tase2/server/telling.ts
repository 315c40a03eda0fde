import type { MmsServer } from '../../mms/server.ts';
import type { ObjectName } from '../../mms/wire/names.ts';
import { headerData, MESSAGES, MOST_MESSAGE, type InfoMessage } from '../messages.ts';

/** Messages to peers: who wants them, and how they are told. */
export class Telling {
  private readonly wanting = new Set<number>();
  private count = 0;

  constructor(private readonly domain: string) {}

  isWanted(peer: number): boolean {
    return this.wanting.has(peer);
  }
  want(peer: number, wanted: boolean): void {
    if (wanted) this.wanting.add(peer);
    else this.wanting.delete(peer);
  }

  /** Tells all that want to know; returns what came of it, in words. */
  tell(text: string, serverOf: (peer: number) => MmsServer | undefined): { words: string; told: number[] } {
    const octets = new TextEncoder().encode(text);
    if (octets.length === 0) return { words: 'there is nothing in it', told: [] };
    if (octets.length > MOST_MESSAGE)
      return { words: `it has ${octets.length} octets, at most ${MOST_MESSAGE} go`, told: [] };
    const message: InfoMessage = { infoRef: 1, localRef: 0, id: ++this.count, octets };
    const name = (item: string): ObjectName => ({ scope: 'domain', domain: this.domain, item });
    const names = [{ name: name(MESSAGES.header) }, { name: name(MESSAGES.buffer) }];
    const told = [...this.wanting].filter((peer) =>
      serverOf(peer)?.report({ names }, [headerData(message), { type: 'octets', octets }]),
    );
    const to = told.length === 1 ? '1 peer' : `${told.length} peers`;
    return { words: told.length === 0 ? 'nobody wants messages' : `told ${to}`, told };
  }
}
