import type { EngineRequest } from '@halvix/core/path';
import { claimTransfer, closeTransfers, noteTransfer, type Database, type FileTransfer } from '@halvix/db';
import { clock } from '@halvix/wire';
import type { DeviceRunner } from './device.ts';
import type { Journal } from '../journal.ts';
import { log, reason } from '../log.ts';

export interface FileContext {
  database: Database;
  engine: string;
  journal: Journal;
  devices: () => ReadonlyMap<string, DeviceRunner>;
}

/** Progress is written this often. */
const PROGRESS_MS = 1000;
/** A question that no engine has taken by then has failed. */
const STALE_MS = 30_000;

/** Questions about the files of devices: rows, each taken once. */
export class FileTransfers {
  private claims: Promise<void> = Promise.resolve();

  constructor(private readonly context: FileContext) {}

  /** Gives up what no engine has taken. */
  tidy(): Promise<void> {
    return closeTransfers(this.context.database, null, clock.now() - STALE_MS);
  }

  /** Questions are taken in the order in which they were asked: a directory after a deletion shows it. */
  begin(request: EngineRequest & { type: 'file' }): Promise<void> {
    const claim = this.claims.then(() => this.claim(request.id));
    this.claims = claim.then(
      () => {},
      () => {},
    );
    return this.carryOut(request, claim);
  }

  private async claim(id: string): Promise<FileTransfer | null> {
    const { database, engine, devices } = this.context;
    return claimTransfer(database, id, engine, [...devices().keys()]);
  }

  private async carryOut(
    { id, as }: EngineRequest & { type: 'file' },
    claim: Promise<FileTransfer | null>,
  ): Promise<void> {
    const { database, journal, devices } = this.context;
    try {
      const row = await claim;
      const device = row === null ? undefined : devices().get(row.device);
      if (row === null || device === undefined) return;
      const { what, name, requestedBy } = row;
      const { problem, answer } = await device.askFile({ what, name, as }, this.progressOf(row));
      await noteTransfer(database, id, {
        state: problem === null ? 'done' : 'failed',
        words: problem,
        ended: clock.now(),
        ...(answer.directory ? { entries: answer.directory } : {}),
        ...(answer.file ? { content: answer.file, octets: answer.file.length } : {}),
      });
      if (what === 'deleteFile')
        journal.note(row.device, 'plain', `file ${name} deleted there, asked by ${requestedBy}: ${problem ?? 'done'}`);
    } catch (error) {
      log('error', 'a file transfer failed', { id, reason: reason(error) });
    }
  }

  private progressOf({ id }: FileTransfer): (octets: number) => void {
    let writtenAt = 0;
    return (octets) => {
      const now = clock.now();
      if (now - writtenAt < PROGRESS_MS) return;
      writtenAt = now;
      noteTransfer(this.context.database, id, { octets }).catch((error: unknown) =>
        log('error', 'the progress of a file was not written', { id, reason: reason(error) }),
      );
    };
  }
}
