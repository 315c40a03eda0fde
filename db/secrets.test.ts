import { chmodSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, afterEach, describe, expect, test } from 'vitest';
import { newSecretKey, SecretKeys, secretKeys, useSecretKeys } from './secrets.ts';

const ID = '3c1f3e3a-58a3-4d0f-9b55-0f4a6d0c8f01';
const OTHER = '3c1f3e3a-58a3-4d0f-9b55-0f4a6d0c8f02';
const TEXT = 'weir häuser 7';

describe('what is sealed', () => {
  const first = newSecretKey();
  const keys = SecretKeys.read(first);

  test('opens under its own number alone, and only as it was', () => {
    const sealed = keys.seal(ID, TEXT);
    expect(keys.open(ID, sealed)).toBe(TEXT);
    expect(keys.open(OTHER, sealed)).toBeNull();
    for (let at = 0; at < sealed.length; at++) {
      const changed = Buffer.from(sealed);
      changed[at] ^= 1;
      expect(keys.open(ID, changed), `octet ${at}`).toBeNull();
    }
    for (let length = 0; length < sealed.length; length++) expect(keys.open(ID, sealed.subarray(0, length))).toBeNull();
  });

  test('is another each time, and does not show what is in it', () => {
    const [one, two] = [keys.seal(ID, TEXT), keys.seal(ID, TEXT)];
    expect(one.equals(two)).toBe(false);
    expect(one.includes(Buffer.from('weir'))).toBe(false);
  });

  test('is AES-256-GCM as Web Crypto has it (NIST SP 800-38D)', async () => {
    const sealed = keys.seal(ID, TEXT);
    const key = await crypto.subtle.importKey('raw', Buffer.from(first, 'base64'), 'AES-GCM', false, ['decrypt']);
    const opened = await crypto.subtle.decrypt(
      { name: 'AES-GCM', iv: new Uint8Array(sealed.subarray(4, 16)), additionalData: Buffer.from(ID), tagLength: 128 },
      key,
      Buffer.concat([sealed.subarray(32), sealed.subarray(16, 32)]),
    );
    expect(Buffer.from(opened).toString()).toBe(TEXT);
  });

  test('opens by an older key of the file, and is known to be sealed by it', () => {
    const sealed = keys.seal(ID, TEXT);
    const both = SecretKeys.read(`# newest first\n${newSecretKey()}\n\n${first}\n`);
    expect(both.open(ID, sealed)).toBe(TEXT);
    expect([both.isNewest(sealed), both.isNewest(both.seal(ID, TEXT))]).toEqual([false, true]);
    expect(keys.open(ID, both.seal(ID, TEXT))).toBeNull();
  });
});

describe('the file of keys', () => {
  const folder = mkdtempSync(join(tmpdir(), 'halvix-keys-'));
  const file = join(folder, 'keys');
  afterEach(() => useSecretKeys(undefined));
  afterAll(() => rmSync(folder, { recursive: true }));
  const having = (text: string, mode = 0o600): string | null => {
    writeFileSync(file, text);
    chmodSync(file, mode);
    return useSecretKeys(file);
  };

  test('gives this process its keys', () => {
    expect(having(`${newSecretKey()}\n`)).toBeNull();
    expect(secretKeys()).not.toBeNull();
    expect(useSecretKeys(undefined)).toBeNull();
    expect(secretKeys()).toBeNull();
  });

  test('is refused, in words without what stands in it, where it is none', () => {
    const short = Buffer.alloc(31, 7).toString('base64');
    expect(having(`${newSecretKey()}\n${short}\n`)).toBe('line 2: must be 32 octets in base64');
    expect(having('correct horse battery staple\n')).toBe('line 1: must be 32 octets in base64');
    expect(having('# nothing\n\n')).toBe('has no key in it');
    expect(secretKeys()).toBeNull();
    expect(useSecretKeys(join(folder, 'none'))).toBe('must be a file that can be read');
    expect(useSecretKeys(folder)).not.toBeNull();
    expect(having(`${newSecretKey()}\n`, 0o604)).toBe('must be a file that only its owner and group can read');
    expect(having(`${newSecretKey()}\n`, 0o640)).toBeNull();
  });
});
