import { createPrivateKey, X509Certificate } from 'node:crypto';
import { readFileSync, statSync } from 'node:fs';
import { MAX_FILE_OCTETS } from './settings.ts';

/** What https shows, as read from its files. */
export interface Shown {
  cert: Buffer;
  key: Buffer;
  /** Until when it holds, milliseconds since 1970. */
  validTo: number;
}

function readSmall(path: string): Buffer {
  const found = statSync(path);
  if (!found.isFile()) throw new Error(`${path} is no file`);
  if (found.size > MAX_FILE_OCTETS) throw new Error(`${path} has ${found.size} octets, at most ${MAX_FILE_OCTETS}`);
  return readFileSync(path);
}

/** Throws, in words, when one cannot be read or they do not fit each other. */
export function readCertificate(certificateFile: string, keyFile: string): Shown {
  const [cert, key] = [readSmall(certificateFile), readSmall(keyFile)];
  const certificate = new X509Certificate(cert);
  if (!certificate.checkPrivateKey(createPrivateKey(key)))
    throw new Error(`the key in ${keyFile} is not that of the certificate in ${certificateFile}`);
  return { cert, key, validTo: Date.parse(certificate.validTo) };
}

/** Hears of a renewed certificate; files that are being replaced, or do not fit, leave what was there before. */
export class CertificateWatch {
  private last: string;
  private told = '';

  constructor(
    private readonly files: readonly [certificate: string, key: string],
    private readonly renewed: (shown: Shown) => void,
    private readonly refused: (words: string) => void,
  ) {
    this.last = this.stamp();
  }

  look(): void {
    const now = this.stamp();
    if (now === this.last) return;
    try {
      this.renewed(readCertificate(...this.files));
      this.last = now;
      this.told = '';
    } catch (error) {
      const words = error instanceof Error ? error.message : String(error);
      if (words !== this.told) this.refused(words);
      this.told = words;
    }
  }

  private stamp(): string {
    return this.files
      .map((file) => {
        const found = statSync(file, { throwIfNoEntry: false });
        return found ? `${found.ino} ${found.mtimeMs} ${found.size}` : 'none';
      })
      .join(', ');
  }
}
