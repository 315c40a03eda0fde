import type { Preview, PreviewContext, Table } from '@halvix/core/pointlist';
import type { Result } from '@halvix/core/session';
import type { PasteJob } from './paste.worker.ts';

type Job = PasteJob extends infer One ? (One extends PasteJob ? Omit<One, 'id'> : never) : never;

let worker: Worker | null = null;
let next = 0;
const waiting = new Map<number, { done: (result: unknown) => void; failed: (error: Error) => void }>();

/** Has the worker do something; it is made at the first use, and anew after it broke. */
function ask(job: Job): Promise<unknown> {
  if (worker === null) {
    worker = new Worker(new URL('./paste.worker.ts', import.meta.url), { type: 'module' });
    worker.onmessage = ({ data }: MessageEvent<{ id: number; result: unknown }>): void => {
      waiting.get(data.id)?.done(data.result);
      waiting.delete(data.id);
    };
    worker.onerror = (event): void => {
      for (const { failed } of waiting.values()) failed(new Error(event.message || 'it could not be read'));
      waiting.clear();
      worker?.terminate();
      worker = null;
    };
  }
  const id = ++next;
  return new Promise((done, failed) => {
    waiting.set(id, { done, failed });
    worker?.postMessage({ ...job, id });
  });
}

/** Rows and columns of a text, or of a text file's octets. */
export const analyse = (given: string | Uint8Array): Promise<Result<Table, string>> =>
  ask(typeof given === 'string' ? { do: 'text', text: given } : { do: 'octets', octets: given }) as Promise<
    Result<Table, string>
  >;

/** The same of rows that are split already. */
export const analyseRows = (rows: string[][]): Promise<Result<Table, string>> =>
  ask({ do: 'rows', rows }) as Promise<Result<Table, string>>;

export const previewed = (table: Table, context: PreviewContext): Promise<Preview> =>
  ask({ do: 'preview', table, context }) as Promise<Preview>;
