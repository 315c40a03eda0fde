import { createCipheriv, createDecipheriv, createHash, randomBytes } from 'node:crypto';
import { readFileSync, statSync } from 'node:fs';

/*
 * Secrets are sealed by AES-256-GCM (NIST SP 800-38D) with the number under which they are kept as what is authenticated
 * along: one that is moved to another number opens no more. As octets:
 *
 *   which key    4   the first of the key's SHA-256
 *   nonce       12   drawn anew each time
 *   tag         16
 *   text         …   UTF-8, encrypted
 */
const KEY = 32;
const WHICH = 4;
const NONCE = 12;
const TAG = 16;
const HEAD = WHICH + NONCE + TAG;
const CIPHER = 'aes-256-gcm';

/** What is wrong with a secret that somebody gave, in words for them. */
export class SecretProblem extends Error {}

/** The keys by which secrets are sealed and opened: the first seals, all of them open. */
export class SecretKeys {
  private readonly keys: { which: Buffer; key: Buffer }[];

  /** Each has 32 octets. */
  constructor(keys: readonly Buffer[]) {
    this.keys = keys.map((key) => ({ which: createHash('sha256').update(key).digest().subarray(0, WHICH), key }));
  }

  /** Lines of 32 octets each in base64; empty lines and those that begin with # are none. Throws what is wrong. */
  static read(text: string): SecretKeys {
    const lines = text.split('\n').map((line) => line.trim());
    const keys = lines.flatMap((line, at) => {
      if (line === '' || line.startsWith('#')) return [];
      const key = Buffer.from(line, 'base64');
      if (key.length !== KEY || key.toString('base64') !== line)
        throw new Error(`line ${at + 1}: must be ${KEY} octets in base64`);
      return [key];
    });
    if (keys.length === 0) throw new Error('has no key in it');
    return new SecretKeys(keys);
  }

  seal(id: string, text: string): Buffer {
    const [{ which, key }] = this.keys;
    const nonce = randomBytes(NONCE);
    const cipher = createCipheriv(CIPHER, key, nonce, { authTagLength: TAG }).setAAD(Buffer.from(id));
    const octets = Buffer.concat([cipher.update(text, 'utf8'), cipher.final()]);
    return Buffer.concat([which, nonce, cipher.getAuthTag(), octets]);
  }

  /** The text; null: another key sealed it, or it is not as it was. */
  open(id: string, sealed: Uint8Array): string | null {
    const octets = Buffer.from(sealed);
    const found = this.keys.find(({ which }) => which.equals(octets.subarray(0, WHICH)));
    if (found === undefined || octets.length < HEAD) return null;
    const nonce = octets.subarray(WHICH, WHICH + NONCE);
    const cipher = createDecipheriv(CIPHER, found.key, nonce, { authTagLength: TAG })
      .setAAD(Buffer.from(id))
      .setAuthTag(octets.subarray(WHICH + NONCE, HEAD));
    try {
      return Buffer.concat([cipher.update(octets.subarray(HEAD)), cipher.final()]).toString('utf8');
    } catch {
      return null;
    }
  }

  /** Whether the first of the keys sealed it. */
  isNewest(sealed: Uint8Array): boolean {
    return this.keys[0].which.equals(Buffer.from(sealed).subarray(0, WHICH));
  }
}

/** A key that nobody has, as a line of the file. */
export const newSecretKey = (): string => randomBytes(KEY).toString('base64');

let keys: SecretKeys | null = null;

/** The keys of this process; null: it has none. */
export const secretKeys = (): SecretKeys | null => keys;

/** Reads the file of keys for this process; undefined: it has none. Returns what is wrong with it; null: nothing. */
export function useSecretKeys(file: string | undefined): string | null {
  keys = null;
  if (file === undefined) return null;
  try {
    if ((statSync(file).mode & 0o007) !== 0) return 'must be a file that only its owner and group can read';
    keys = SecretKeys.read(readFileSync(file, 'utf8'));
    return null;
  } catch (error) {
    return error instanceof Error && !('code' in error) ? error.message : 'must be a file that can be read';
  }
}
