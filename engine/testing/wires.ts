import { execFileSync, spawn } from 'node:child_process';
import { existsSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { SerialPort } from 'serialport';

/* Real wires for tests: ports, terminals, certificates. What is made is taken away by `close`, the last first. */

export const pause = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));

export async function until(what: string, holds: () => boolean, limitMs = 60_000): Promise<void> {
  for (const began = Date.now(); !holds();) {
    if (Date.now() - began > limitMs) throw new Error(`not within ${limitMs} ms: ${what}`);
    await pause(10);
  }
}

export async function freePort(): Promise<number> {
  const server = createServer();
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  const address = server.address();
  await new Promise((resolve) => server.close(resolve));
  return typeof address === 'object' && address !== null ? address.port : 0;
}

/** What a test made, to be taken away after it. */
export class Closers {
  private readonly all: (() => unknown)[] = [];
  push(close: () => unknown): void {
    this.all.push(close);
  }
  async close(): Promise<void> {
    for (const close of this.all.splice(0).reverse()) await close();
  }
}

/** A pair of pseudo terminals: the path of ours, and the far end, open. */
export async function terminals(closers: Closers): Promise<{ ours: string; far: SerialPort }> {
  const folder = mkdtempSync(join(tmpdir(), 'halvix-serial-'));
  const [ours, theirs] = [join(folder, 'ours'), join(folder, 'theirs')];
  const socat = spawn('socat', [`pty,raw,echo=0,link=${ours}`, `pty,raw,echo=0,link=${theirs}`]);
  closers.push(() => rmSync(folder, { recursive: true, force: true }));
  closers.push(() => socat.kill());
  await until('the terminals are there', () => existsSync(ours) && existsSync(theirs));
  const far = new SerialPort({ path: theirs, baudRate: 9600 });
  closers.push(() => new Promise((resolve) => far.close(resolve)));
  await new Promise((resolve) => far.once('open', resolve));
  return { ours, far };
}

/**
 * A folder with certificates, which becomes the one where TLS files are: of our authority for `names`, and `impostor`
 * of another one. Each holds its name and `device.test`.
 */
export class Certificates {
  readonly folder = mkdtempSync(join(tmpdir(), 'halvix-tls-'));

  constructor(names: readonly string[]) {
    process.env.HALVIX_TLS_FOLDER = this.folder;
    for (const authority of ['authority', 'stranger'])
      this.openssl(
        ...['req', '-x509', '-newkey', 'ec', '-pkeyopt', 'ec_paramgen_curve:P-256', '-nodes', '-days', '2'],
        ...['-subj', `/CN=${authority}`, '-keyout', this.pem(`${authority}-key`), '-out', this.pem(authority)],
      );
    for (const name of names) this.issue(name, 'authority');
    this.issue('impostor', 'stranger');
  }

  pem(name: string): string {
    return join(this.folder, `${name}.pem`);
  }

  /** What a link says of its TLS files. */
  tls(name: string): { use: true; authorityFile: string; certificateFile: string; keyFile: string } {
    return {
      use: true,
      authorityFile: this.pem('authority'),
      certificateFile: this.pem(name),
      keyFile: this.pem(`${name}-key`),
    };
  }

  remove(): void {
    rmSync(this.folder, { recursive: true });
  }

  private openssl(...args: string[]): void {
    execFileSync('openssl', args, { stdio: 'pipe' });
  }

  private issue(name: string, authority: string): void {
    this.openssl(
      ...['req', '-newkey', 'ec', '-pkeyopt', 'ec_paramgen_curve:P-256', '-nodes', '-subj', `/CN=${name}`],
      ...['-keyout', this.pem(`${name}-key`), '-out', this.pem(`${name}-request`)],
    );
    writeFileSync(this.pem(`${name}-ext`), `subjectAltName=DNS:${name}.test,DNS:device.test,IP:127.0.0.1\n`);
    this.openssl(
      ...['x509', '-req', '-days', '2', '-in', this.pem(`${name}-request`), '-CA', this.pem(authority)],
      ...['-CAkey', this.pem(`${authority}-key`), '-CAcreateserial'],
      ...['-extfile', this.pem(`${name}-ext`), '-out', this.pem(name)],
    );
  }
}
